#pragma once
// One plot with its manners: axes with units, crosshair, zoom, pan, copy, save, show as table.
#include "app/plots/plot_scale.h"
#include "app/theme.h"

#include <QPolygonF>
#include <QWidget>
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <vector>

namespace oxgoad {

class PlotFrame : public QWidget {
    Q_OBJECT
public:
    explicit PlotFrame(const QString& accessibleName, QWidget* parent = nullptr);
    ~PlotFrame() override;

    /// Marks of rows. `rows[i]` is the data row of point i; empty when points stand for no rows.
    struct Marks {
        QString name;
        theme::Mark mark = theme::Mark::learning;
        std::vector<double> x, y;
        std::vector<std::size_t> rows;
        /// In place of the mark's own colour.
        std::optional<QColor> colour{};
        /// Where a mark stands for several rows: all of them, mark by mark; otherwise empty.
        std::vector<std::vector<std::size_t>> members{};
    };
    /// A box with whiskers at x.
    struct Box {
        double x = 0;
        double lowerWhisker = 0, lowerQuartile = 0, median = 0, upperQuartile = 0, upperWhisker = 0;
    };
    struct Line {
        QString name;
        std::vector<double> x, y;
        QColor colour = theme::ink;
        Qt::PenStyle style = Qt::SolidLine;
        /// Written at the line's right end.
        QString label;
        double width = 1.8;
    };
    struct Band {
        std::vector<double> x, low, high;
        QColor colour = theme::forecast;
    };
    struct Bars {
        QString name;
        double low = 0, width = 1;
        std::vector<double> heights;
        bool sideways = false;
        QColor colour = theme::learning;
    };
    /// Everything a plot shows. Axis titles carry units.
    struct Content {
        QString xTitle, yTitle;
        bool xIsDate = false;
        /// Values that are not positive have no place on a logarithmic scale and are not drawn.
        bool xLog = false, yLog = false;
        /// Names of the levels at x = 0, 1, 2, …
        QStringList xLevels;
        std::vector<Marks> marks;
        std::vector<Line> lines;
        std::vector<Band> bands;
        std::vector<Bars> bars;
        std::vector<Box> boxes;
        /// Length of a unit along over a unit up, where both are lengths on the ground.
        std::optional<double> proportion;
        bool zeroLine = false;
        /// Fixed ranges, to share a scale with another plot.
        std::optional<std::array<double, 2>> xRange{}, yRange{};
        /// Marks and lines share a legend at the top.
        bool legend = true;
        /// What the plot says, for those who do not see it.
        QString summary;
    };
    /// Replaces what is shown, with the whole of it in view.
    void show(Content content);
    void clear(const QString& why);
    const Content& content() const { return m_content; }

    /// The text the crosshair shows for a row.
    void setDescription(std::function<QString(std::size_t)> describe) { m_describe = std::move(describe); }
    void setSelectedRow(std::optional<std::size_t> row);
    /// A byte a data row, not 0 for rows that are marked; null for none.
    using RowMask = std::shared_ptr<const std::vector<std::uint8_t>>;
    void setMarkedRows(RowMask marked);
    /// How many marks stand for marked rows.
    std::size_t marksMarked() const;
    /// From 0, not to be seen, to 1.
    void setMarkOpacity(double opacity);
    void redraw();
    /// What dragging does: moves what is in view, or marks the rows in a box or a drawn line. With Shift it
    /// always marks a box, with Ctrl what the line goes round.
    enum class Drag { move, box, round };
    void setDrag(Drag drag) { m_drag = drag; }

    /// Pixel place of a row's mark inside this widget; empty when it is not drawn.
    std::optional<QPoint> placeOfRow(std::size_t row) const;
    /// Range of the axes in values: left, right, bottom, top.
    std::array<double, 4> extent() const;
    bool showsDensity() const;

    bool savePicture(const QString& path);
    void copyPicture();
    /// As a picture and as an SVG file, to where it is let go.
    void dragPicture();
    void showAsTable();
    void showAll();
    /// Puts the names of levels along the axis, as they have room.
    void labelLevels();
    /// Marks the rows whose marks are in view.
    void markInView();

signals:
    void rowClicked(std::size_t row);
    /// A double click on a mark, or Return with a row selected.
    void rowOpened(std::size_t row);
    /// Rows to be marked, by a box, a line round them or the view; `add` to those that are already.
    void rowsMarked(const std::vector<std::size_t>& rows, bool add);

protected:
    bool event(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

private:
    struct Plot;
    class Rubber;
    struct Hit {
        std::size_t series, point;
    };
    void build();
    void buildAxes(bool nothing);
    void buildMarks();
    void buildLines();
    void buildOverlay(bool nothing);
    void setScales();
    void placeLegend(bool wanted);
    void drawInView();
    void drawBands();
    void drawSelection();
    void replotSelection();
    std::optional<Hit> nearest(const QPoint& place) const;
    void hover(const QPoint& place);
    void zoom(double factor);
    void markInside(const QPolygonF& outline, bool add);
    bool isMarked(const Marks& marks, std::size_t point) const;
    /// Coordinates of a mark on the page of the plotting library.
    QPointF pixelOf(double x, double y) const;

    std::unique_ptr<Plot> m_plot;
    Content m_content;
    PlotScale m_x = PlotScale::plain(1), m_y = PlotScale::plain(1);
    std::function<QString(std::size_t)> m_describe;
    std::optional<std::size_t> m_selected;
    RowMask m_marked;
    double m_opacity = 1;
    Drag m_drag = Drag::move;
};

} // namespace oxgoad

#pragma once
// One plot with its manners: axes with units, crosshair, zoom, pan, copy, save, show as table.
#include "app/theme.h"

#include <QVector>
#include <QWidget>
#include <array>
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
        /// Fixed range up the plot, to share a scale with another.
        std::optional<std::array<double, 2>> yRange;
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
    /// Pixel place of a row's mark inside this widget; empty when it is not drawn.
    std::optional<QPoint> placeOfRow(std::size_t row) const;
    /// Range of the axes: left, right, bottom, top.
    std::array<double, 4> extent() const;
    bool showsDensity() const;

    bool savePicture(const QString& path);
    void copyPicture();
    void showAsTable();
    void showAll();

signals:
    void rowClicked(std::size_t row);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    bool eventFilter(QObject* watched, QEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

private:
    struct Plot;
    struct Hit {
        std::size_t series, point;
    };
    void build();
    void placeLegend(bool wanted);
    void drawDensity();
    void drawSelection();
    std::optional<Hit> nearest(const QPoint& place) const;
    void hover(const QPoint& place);
    void zoom(double factor);

    std::unique_ptr<Plot> m_plot;
    Content m_content;
    std::function<QString(std::size_t)> m_describe;
    std::optional<std::size_t> m_selected;
    QPoint m_pressed;
};

} // namespace oxgoad

#pragma once
// One table model for every table of the window: columns are functions of the row.
#include <QAbstractTableModel>
#include <QString>
#include <functional>
#include <vector>

namespace oxgoad {

/// Roles beside Qt's own.
enum GridRole {
    /// The raw value, for sorting, copying and export.
    RawValueRole = Qt::UserRole,
    /// Row of the data table an entry stands for (qulonglong), or invalid.
    DataRowRole,
    /// Whatever a drawing delegate needs.
    DrawingRole,
    /// Most characters after a decimal mark in the column, for alignment; -1 for text columns.
    FractionRole,
    /// A quiet or loud tone: "quiet", "alarm", "goad", "strong".
    ToneRole,
};

struct GridColumn {
    QString title;
    bool number = false;
    /// What is shown.
    std::function<QString(int)> text;
    /// Raw value; the shown text when empty.
    std::function<QVariant(int)> raw;
    QString toolTip;
};

class GridModel : public QAbstractTableModel {
    Q_OBJECT
public:
    struct Content {
        int rows = 0;
        std::vector<GridColumn> columns;
        /// Other roles; may be empty or return an invalid value.
        std::function<QVariant(int row, int column, int role)> extra;
        std::function<Qt::ItemFlags(int row, int column)> flags;
        std::function<bool(int row, int column, const QVariant& value, int role)> edit;
    };
    explicit GridModel(QObject* parent = nullptr) : QAbstractTableModel(parent) {}

    /// Takes the content: as changed data where rows and columns keep their number and names, so that views
    /// keep their place, and as a reset otherwise.
    void setContent(Content content);
    /// Check marks are other ones now.
    void ticksChanged();
    const Content& content() const { return m_content; }

    int rowCount(const QModelIndex& parent = {}) const override;
    int columnCount(const QModelIndex& parent = {}) const override;
    QVariant data(const QModelIndex& index, int role = Qt::DisplayRole) const override;
    bool setData(const QModelIndex& index, const QVariant& value, int role) override;
    QVariant headerData(int section, Qt::Orientation orientation, int role) const override;
    Qt::ItemFlags flags(const QModelIndex& index) const override;

private:
    int fractionOf(int column) const;
    Content m_content;
    mutable std::vector<int> m_fractions;
};

/// Tab-separated text of the raw values of some cells, rows in order; what "copy" puts on the clipboard.
QString copiedText(const QModelIndexList& cells);

} // namespace oxgoad

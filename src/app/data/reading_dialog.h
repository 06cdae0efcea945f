#pragma once
#include "app/parts.h"
#include "read/source.h"
#include "workspace/grid_model.h"
#include "workspace/jobs.h"

#include <QDialog>
#include <QTimer>
#include <memory>

class QBoxLayout;
class QCheckBox;
class QComboBox;
class QFormLayout;
class QLabel;
class QLineEdit;
class QListWidget;
class QPushButton;

namespace oxgoad {

class GridView;

/// How a text file or a sheet of a workbook is to be read, with its first rows as they would be read.
class ReadingDialog : public QDialog {
    Q_OBJECT
public:
    ReadingDialog(const RowsSource& source, const QString& folder, const QString& action, QWidget* parent);
    /// The source as chosen.
    RowsSource source() const;

private:
    QComboBox* choice(const QString& label, const QString& name,
                      const QList<std::pair<QString, QVariant>>& choices, const QVariant& chosen);
    void changed();
    void preview();
    void askKind(int column);
    void showRows(const RowsRead& rows);
    /// Says beside each "as found" what was found.
    void showFound(const RowsRead& rows);
    void buildGather(QBoxLayout* layout);
    /// Lists the columns of the wide table, ticked as the source or the suggestion says.
    void listColumns(const Table& wide);
    std::optional<GatherPlan> gather() const;

    RowsSource m_source;
    QString m_folder;
    QFormLayout* m_form;
    QComboBox* m_delimiter = nullptr;
    QComboBox* m_quote = nullptr;
    QComboBox* m_header;
    QComboBox* m_decimal = nullptr;
    QComboBox* m_thousands;
    QComboBox* m_percent;
    QComboBox* m_dates;
    QComboBox* m_encoding = nullptr;
    QComboBox* m_sheet = nullptr;
    QLineEdit* m_range = nullptr;
    WholeBox* m_skip;
    QCheckBox* m_currency;
    QLineEdit* m_missing;
    QCheckBox* m_gather;
    QWidget* m_gatherPart;
    QListWidget* m_wide;
    QLineEdit* m_names;
    QLineEdit* m_values;
    bool m_listing = false;
    QLabel* m_found;
    QPushButton* m_ok = nullptr;
    GridModel m_model;
    GridView* m_view;
    std::vector<std::pair<std::string, AskedKind>> m_columns;
    QTimer m_later;
    Jobs m_jobs;
};

} // namespace oxgoad

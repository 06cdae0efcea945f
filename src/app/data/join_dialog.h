#pragma once
#include "read/source.h"
#include "table/table.h"
#include "workspace/jobs.h"

#include <QDialog>
#include <memory>
#include <vector>

class QComboBox;
class QLabel;
class QPushButton;

namespace oxgoad {

/// Which columns of the rows and of a second table are the key.
class JoinDialog : public QDialog {
    Q_OBJECT
public:
    JoinDialog(const Table& rows, const Table& second, const QString& secondName, QWidget* parent);
    std::vector<std::pair<std::string, std::string>> keys() const;

private:
    void changed();
    const Table m_rows;
    const Table m_second;
    std::vector<std::pair<QComboBox*, QComboBox*>> m_pairs;
    QLabel* m_said = nullptr;
    QPushButton* m_ok = nullptr;
    Jobs m_jobs;
};

} // namespace oxgoad

#include "app/data/rows_pane.h"

#include "app/parts.h"
#include "base/text.h"
#include "table/values.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QLineEdit>
#include <QScrollBar>
#include <QVBoxLayout>

namespace oxgoad {

RowsPane::RowsPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(4);
    auto* bar = new QHBoxLayout;
    bar->setContentsMargins(8, 0, 8, 0);
    auto field = [&](const QString& placeholder, const QString& name, int width) {
        auto* edit = new QLineEdit(this);
        edit->setPlaceholderText(placeholder);
        edit->setAccessibleName(placeholder);
        edit->setObjectName(name);
        edit->setClearButtonEnabled(true);
        edit->setFixedWidth(width);
        bar->addWidget(edit);
        return edit;
    };
    m_condition = field(tr("only rows where… (occupancy < 40)"), "rowCondition", 250);
    m_search = field(tr("find a text or number"), "rowSearch", 170);
    m_jump = field(tr("go to row"), "rowJump", 100);
    m_count = plainLabel({}, "hint");
    m_count->setObjectName("rowCount");
    bar->addWidget(m_count, 1);
    m_only = linkButton(tr("only marked rows"), this);
    m_only->setCheckable(true);
    bar->addWidget(m_only);
    connect(m_only, &QPushButton::clicked, this, [this](bool on) { showOnlyMarked(on); });
    layout->addLayout(bar);
    m_view = new GridView(tr("Rows"), this);
    m_view->setObjectName("rows");
    m_view->setModel(&m_model);
    m_view->horizontalHeader()->setSectionsClickable(true);
    m_view->horizontalHeader()->setToolTip(
        tr("Click to sort; again to turn it round; a third time for the order of the rows"));
    layout->addWidget(m_view, 1);
    m_later.setSingleShot(true);
    m_later.setInterval(300);
    connect(&m_later, &QTimer::timeout, this, &RowsPane::arrange);
    connect(m_condition, &QLineEdit::textChanged, this, [this] { m_later.start(); });
    connect(m_search, &QLineEdit::textChanged, this, [this] { m_later.start(); });
    connect(m_jump, &QLineEdit::returnPressed, this, &RowsPane::jump);
    connect(m_view->horizontalHeader(), &QHeaderView::sectionClicked, this, &RowsPane::sortBy);
    // Several lines chosen with Shift or Ctrl are marked everywhere.
    connect(m_view->selectionModel(), &QItemSelectionModel::selectionChanged, this, [this] {
        const QModelIndexList lines = m_view->selectionModel()->selectedRows();
        if (lines.size() < 2) return;
        std::vector<std::size_t> rows;
        for (const QModelIndex& index : lines)
            rows.push_back(index.data(DataRowRole).toULongLong());
        m_takingLines = true;
        m_session.markRows(rows, false);
        m_takingLines = false;
    });
    connect(m_view, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_session.selectRow(index.data(DataRowRole).toULongLong()); });
}

void RowsPane::refresh() {
    if (m_arrangement == RowArrangement() && m_sortColumn < 0 && !m_only->isChecked()) {
        m_order.reset();
        m_model.setContent(rowsGrid(m_session, m_order));
        m_view->fitColumns(160);
        m_count->setText({});
        return;
    }
    arrange();
}

void RowsPane::sortBy(int column) {
    if (m_sortColumn != column) {
        m_sortColumn = column;
        m_arrangement.descending = false;
    } else if (!m_arrangement.descending) {
        m_arrangement.descending = true;
    } else {
        m_sortColumn = -1;
        m_arrangement.descending = false;
    }
    m_view->horizontalHeader()->setSortIndicatorShown(m_sortColumn >= 0);
    if (m_sortColumn >= 0)
        m_view->horizontalHeader()->setSortIndicator(
            m_sortColumn, m_arrangement.descending ? Qt::DescendingOrder : Qt::AscendingOrder);
    arrange();
}

void RowsPane::arrange() {
    const auto prepared = m_session.prepared();
    if (!prepared) return;
    m_arrangement.condition = ss(m_condition->text());
    m_arrangement.search = ss(m_search->text());
    m_arrangement.sortBy.clear();
    std::vector<double> key;
    const auto& columns = prepared->table.columns();
    if (m_sortColumn >= 2 && m_sortColumn - 2 < static_cast<int>(columns.size())) {
        m_arrangement.sortBy = columns[static_cast<std::size_t>(m_sortColumn - 2)].name();
    } else if (m_sortColumn >= 0) {
        // By number of the row, or by who left it out and then by part.
        key.resize(prepared->table.rows());
        for (std::size_t i = 0; i < key.size(); ++i)
            key[i] = m_sortColumn == 0
                         ? static_cast<double>(i)
                         : 10.0 * prepared->leftOut[i] + static_cast<double>(prepared->parts[i]);
    }
    const Session::RowMask only = m_only->isChecked() ? m_session.markedRows() : nullptr;
    if (m_arrangement == RowArrangement() && key.empty() && !only) {
        m_only->setChecked(false);
        refresh();
        return;
    }
    m_session.sideJobs().start(
        tr("Arranging rows"),
        [this, prepared, wanted = m_arrangement, key = std::move(key),
         only](Progress& progress) -> Jobs::Finish {
            std::shared_ptr<const std::vector<std::uint32_t>> order;
            QString trouble;
            try {
                auto rows = arrangeRows(prepared->table, wanted, key, progress);
                if (!key.empty() && wanted.descending) std::reverse(rows.begin(), rows.end());
                if (only) std::erase_if(rows, [&](std::uint32_t row) { return (*only)[row] == 0; });
                order = std::make_shared<const std::vector<std::uint32_t>>(std::move(rows));
            } catch (const Error& error) {
                trouble = qs(error.what()); // said beside the field, not across the window
            }
            return [this, order, trouble, prepared] {
                if (!trouble.isEmpty()) {
                    m_count->setText(trouble);
                    m_count->setStyleSheet("color: #A33B2C;");
                    return;
                }
                if (m_session.prepared() != prepared) return;
                m_order = order;
                m_model.setContent(rowsGrid(m_session, m_order));
                m_view->fitColumns(160);
                m_count->setStyleSheet({});
                m_count->setText(
                    order->size() == prepared->table.rows()
                        ? QString()
                        : tr("%1 of %2 rows")
                              .arg(qs(countText(order->size())), qs(countText(prepared->table.rows()))));
            };
        });
}

void RowsPane::jump() {
    const auto value = parseDressedNumber(ss(m_jump->text()), {});
    const auto rows = m_session.table().rows();
    if (!value || value->value < 1 || value->value > static_cast<double>(rows)) {
        m_count->setText(
            tr("There is no row %1; rows go from 1 to %2.").arg(m_jump->text(), qs(countText(rows))));
        m_count->setStyleSheet("color: #A33B2C;");
        return;
    }
    m_count->setStyleSheet({});
    m_count->setText({});
    m_session.selectRow(static_cast<std::size_t>(value->value) - 1);
    showSelection();
}

void RowsPane::showOnlyMarked(bool only) {
    m_only->setChecked(only && m_session.markedRows());
    arrange();
}

void RowsPane::showColumn(const QString& column) {
    if (!m_session.prepared()) return;
    const auto& columns = m_session.prepared()->table.columns();
    const Column* wanted = m_session.prepared()->table.find(ss(column));
    if (!wanted) return;
    const int at = 2 + static_cast<int>(wanted - columns.data()); // after the row's number and part
    if (at >= m_model.columnCount()) return;
    const int left = m_view->columnViewportPosition(at);
    if (left >= 0 && left + m_view->columnWidth(at) <= m_view->viewport()->width()) return;
    m_view->horizontalScrollBar()->setValue(m_view->horizontalHeader()->sectionPosition(at));
}

void RowsPane::showSelection() {
    m_only->setVisible(m_session.markedRows() != nullptr);
    if (m_only->isChecked() && !m_takingLines) arrange();
    m_view->viewport()->update(); // which rows are marked
    const auto row = m_session.selectedRow();
    if (!row) return;
    int place = static_cast<int>(*row);
    if (m_order) {
        const auto at = std::find(m_order->begin(), m_order->end(), static_cast<std::uint32_t>(*row));
        if (at == m_order->end()) return;
        place = static_cast<int>(at - m_order->begin());
    }
    if (place >= m_model.rowCount()) return;
    const QModelIndex index = m_model.index(place, 0);
    if (m_view->currentIndex().row() == index.row()) return;
    m_view->setCurrentIndex(index);
    m_view->scrollTo(index, QAbstractItemView::PositionAtCenter);
}

} // namespace oxgoad

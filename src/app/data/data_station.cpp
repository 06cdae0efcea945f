#include "app/data/data_station.h"

#include "app/data/reading_dialog.h"
#include "app/parts.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QMenu>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace oxgoad {

DataStation::DataStation(Session& session, QWidget* parent) : Station(session, "data", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(12, 12, 12, 6);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(8, 0, 8, 0);
    m_file = plainLabel({}, "heading");
    head->addWidget(m_file);
    m_notes = plainLabel({}, "hint");
    m_notes->setObjectName("hint");
    head->addWidget(m_notes, 1);
    m_otherwise = linkButton(tr("read otherwise…"), this);
    m_otherwise->setToolTip(tr("Delimiter, quotes, header line, decimal mark, encoding"));
    connect(m_otherwise, &QPushButton::clicked, this, &DataStation::readOtherwise);
    head->addWidget(m_otherwise);
    auto* open = new QPushButton(tr("Open rows…"), this);
    open->setObjectName("openRows");
    connect(open, &QPushButton::clicked, this, &Station::openWanted);
    head->addWidget(open);
    layout->addLayout(head);

    auto* splitter = new QSplitter(Qt::Vertical, this);
    splitter->setHandleWidth(1);
    m_ledger = new GridView(tr("Ledger of columns"), splitter);
    m_ledger->setObjectName("ledger");
    m_ledger->setToolTip(tr("Return or double click on a column: what it is used for and how it is read"));
    m_ledger->setModel(&m_ledgerModel);
    m_ledger->setContextMenuPolicy(Qt::CustomContextMenu);
    connect(m_ledger, &GridView::opened, this, &DataStation::openColumn);
    connect(m_ledger, &QWidget::customContextMenuRequested, this,
            [this](const QPoint& at) { openColumn(m_ledger->indexAt(at)); });

    auto* below = new QWidget(splitter);
    auto* belowLayout = new QVBoxLayout(below);
    belowLayout->setContentsMargins(0, 8, 0, 0);
    auto* choice = new QHBoxLayout;
    choice->setContentsMargins(8, 0, 8, 0);
    m_showRows = linkButton(tr("Rows"), below);
    m_showFaults = linkButton(tr("Cells that do not fit"), below);
    m_showFaults->setProperty("faults", true);
    choice->addWidget(m_showRows);
    choice->addWidget(m_showFaults);
    choice->addStretch(1);
    belowLayout->addLayout(choice);
    m_lower = new QStackedWidget(below);
    m_rows = new GridView(tr("Rows"), m_lower);
    m_rows->setObjectName("rows");
    m_rows->setModel(&m_rowsModel);
    m_faults = new GridView(tr("Cells that do not fit"), m_lower);
    m_faults->setObjectName("faults");
    m_faults->setModel(&m_faultsModel);
    m_lower->addWidget(m_rows);
    m_lower->addWidget(m_faults);
    belowLayout->addWidget(m_lower);
    splitter->addWidget(m_ledger);
    splitter->addWidget(below);
    splitter->setStretchFactor(0, 3);
    splitter->setStretchFactor(1, 2);
    layout->addWidget(splitter, 1);

    connect(m_showRows, &QPushButton::clicked, this, [this] { m_lower->setCurrentWidget(m_rows); });
    connect(m_showFaults, &QPushButton::clicked, this, [this] { m_lower->setCurrentWidget(m_faults); });
    connect(m_rows, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_session.selectRow(static_cast<std::size_t>(index.row())); });
    connect(m_faults, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_session.selectRow(index.data(DataRowRole).toULongLong()); });
    connect(&session, &Session::selectionChanged, this, &DataStation::showSelection);
}

QWidget* DataStation::focusTarget() {
    return m_ledger;
}

void DataStation::refresh() {
    m_otherwise->setVisible(m_session.hasRows());
    if (!m_session.hasRows()) {
        m_file->setText(tr("No rows yet"));
        m_notes->setText({});
        return;
    }
    const ReadReport& report = m_session.rows()->learning.report;
    m_file->setText(qs(report.file));
    QStringList notes{qs(plural(report.rows, "row", "rows") + ", " +
                         plural(m_session.table().columns().size(), "column", "columns"))};
    const QString delimiter =
        report.format.delimiter == '\t' ? tr("tab") : QString(QChar(report.format.delimiter));
    notes << tr("delimiter %1").arg(delimiter) << tr("decimal mark %1").arg(QChar(report.format.decimalMark))
          << qs(encodingName(report.format.encoding));
    QString text = notes.join(" · ");
    for (const auto& note : report.notes)
        text += " · " + qs(note);
    m_notes->setText(text);
    m_notes->setToolTip(text.toHtmlEscaped());
    m_ledgerModel.setContent(ledgerGrid(m_session));
    m_rowsModel.setContent(rowsGrid(m_session));
    m_faultsModel.setContent(faultsGrid(m_session));
    m_ledger->fitColumns(150);
    m_rows->fitColumns(160);
    m_faults->fitColumns();
    m_showFaults->setText(tr("Cells that do not fit (%1)").arg(qs(countText(report.faultCount))));
    m_showFaults->setEnabled(report.faultCount > 0);
    if (report.faultCount == 0) m_lower->setCurrentWidget(m_rows);
    showSelection();
}

void DataStation::showSelection() {
    const auto row = m_session.selectedRow();
    if (!row || m_rowsModel.rowCount() <= static_cast<int>(*row)) return;
    const QModelIndex index = m_rowsModel.index(static_cast<int>(*row), 0);
    if (m_rows->currentIndex().row() == index.row()) return;
    m_rows->setCurrentIndex(index);
    m_rows->scrollTo(index, QAbstractItemView::PositionAtCenter);
}

void DataStation::showColumn(const QString& column) {
    for (int row = 0; row < m_ledgerModel.rowCount(); ++row)
        if (m_ledgerModel.index(row, 0).data().toString() == column) {
            m_ledger->setCurrentIndex(m_ledgerModel.index(row, 0));
            m_ledger->scrollTo(m_ledgerModel.index(row, 0));
        }
    if (m_showFaults->isEnabled() && m_session.hasRows())
        for (const auto& [name, count] : m_session.rows()->learning.report.faultsByColumn)
            if (qs(name) == column) m_lower->setCurrentWidget(m_faults);
}

void DataStation::readOtherwise() {
    auto* dialog =
        new ReadingDialog(m_session.recipe().rows.text, m_session.rows()->learning.report.format, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog] {
        const TextOptions options = dialog->options();
        if (!(options == m_session.recipe().rows.text)) m_session.readAgain(options);
    });
    dialog->open();
}

void DataStation::openColumn(const QModelIndex& index) {
    if (!index.isValid()) return;
    const ColumnSummary column = m_session.summaries()[static_cast<std::size_t>(index.row())];
    auto* menu = new QMenu(this);
    menu->setObjectName("columnMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const Recipe& recipe = m_session.recipe();
    auto* response = menu->addAction(tr("Predict this column"));
    response->setEnabled(column.kind == ColumnKind::number && column.name != recipe.response);
    connect(response, &QAction::triggered, this, [this, name = column.name] {
        Recipe next = m_session.recipe();
        next.response = name;
        std::erase_if(next.terms, [&](const Term& term) {
            return std::any_of(term.parts.begin(), term.parts.end(),
                               [&](const TermPart& p) { return p.column == name; });
        });
        m_session.change(next);
    });
    const auto used = inputNames(recipe.terms);
    const bool in = std::find(used.begin(), used.end(), column.name) != used.end();
    auto* term = menu->addAction(in ? tr("Take out of the terms") : tr("Add to the terms"));
    term->setEnabled(column.name != recipe.response && column.kind != ColumnKind::text);
    connect(term, &QAction::triggered, this, [this, name = column.name, in] {
        Recipe next = m_session.recipe();
        if (in)
            std::erase_if(next.terms, [&](const Term& t) {
                return std::any_of(t.parts.begin(), t.parts.end(),
                                   [&](const TermPart& p) { return p.column == name; });
            });
        else
            next = withTerm(next, plainTerm(name));
        m_session.change(next);
    });
    menu->addSeparator();
    for (const ColumnKind kind :
         {ColumnKind::number, ColumnKind::factor, ColumnKind::date, ColumnKind::text}) {
        auto* action = menu->addAction(tr("Read as %1").arg(qs(kindName(kind))));
        action->setCheckable(true);
        action->setChecked(column.kind == kind);
        connect(action, &QAction::triggered, this, [this, name = column.name, kind] {
            TextOptions options = m_session.recipe().rows.text;
            options.kinds[name] = kind;
            m_session.readAgain(options);
        });
    }
    menu->popup(m_ledger->viewport()->mapToGlobal(m_ledger->visualRect(index).bottomLeft()));
}

} // namespace oxgoad

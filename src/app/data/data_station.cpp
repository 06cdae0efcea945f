#include "app/data/data_station.h"
#include "recipe/recipe_edits.h"

#include "app/data/database_dialog.h"
#include "app/data/join_dialog.h"
#include "app/data/parts_pane.h"
#include "app/data/reading_dialog.h"
#include "app/data/rows_pane.h"
#include "app/data/steps_pane.h"
#include "app/parts.h"
#include "app/window/start_pane.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QClipboard>
#include <QFileInfo>
#include <QGuiApplication>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QInputDialog>
#include <QLineEdit>
#include <QMenu>
#include <QShortcut>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

#include <filesystem>
#include <numeric>

namespace oxgoad {

namespace {

/// The ledger in another order or with fewer lines: the same content by way of a list of lines.
GridModel::Content rearranged(GridModel::Content grid, std::vector<int> lines) {
    auto map = std::make_shared<const std::vector<int>>(std::move(lines));
    grid.rows = static_cast<int>(map->size());
    for (GridColumn& column : grid.columns) {
        if (column.text)
            column.text = [text = column.text, map](int row) {
                return text((*map)[static_cast<std::size_t>(row)]);
            };
        if (column.raw)
            column.raw = [raw = column.raw, map](int row) {
                return raw((*map)[static_cast<std::size_t>(row)]);
            };
    }
    grid.extra = [extra = grid.extra, map](int row, int column, int role) {
        return extra((*map)[static_cast<std::size_t>(row)], column, role);
    };
    return grid;
}

} // namespace

DataStation::DataStation(Session& session, FileChooser& files, QWidget* parent)
    : Station(session, "data", parent), m_files(files), m_jobs(this) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(12, 12, 12, 6);
    buildHead(layout);
    auto* splitter = new QSplitter(Qt::Vertical, this);
    splitter->setHandleWidth(1);
    m_ledger = new GridView(tr("Ledger of columns"), splitter);
    m_ledger->setObjectName("ledger");
    m_ledger->setToolTip(tr("Return or double click on a column: its role, its type, and steps for it"));
    m_ledger->setModel(&m_ledgerModel);
    m_ledger->setContextMenuPolicy(Qt::CustomContextMenu);
    m_ledger->horizontalHeader()->setSectionsClickable(true);
    connect(m_ledger->horizontalHeader(), &QHeaderView::sectionClicked, this, &DataStation::sortLedger);
    connect(m_ledger, &GridView::opened, this, &DataStation::openColumn);
    connect(m_ledger, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_rows->showColumn(columnAt(index)); });
    connect(m_ledger, &QWidget::customContextMenuRequested, this,
            [this](const QPoint& at) { openColumn(m_ledger->indexAt(at)); });
    auto* below = new QWidget(splitter);
    buildPanes(below);
    splitter->addWidget(m_ledger);
    splitter->addWidget(below);
    splitter->setStretchFactor(0, 3);
    splitter->setStretchFactor(1, 2);
    layout->addWidget(splitter, 1);
    m_body = splitter;
    m_start = new StartPane(this);
    layout->addWidget(m_start, 1);
    m_body->hide();
    connect(m_start, &StartPane::openWanted, this, &Station::openWanted);
    connect(m_start, &StartPane::pathWanted, this, &Station::pathWanted);
    connect(&session, &Session::selectionChanged, this, [this] { m_rows->showSelection(); });
    connect(&m_jobs, &Jobs::failed, &session, &Session::failed);
    connect(&session, &Session::passwordWanted, this, [this](const ServerPlace& place, const QString& why) {
        auto* dialog = new PasswordDialog(place, why, this);
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        connect(dialog, &QDialog::accepted, this,
                [this, dialog, place] { m_session.givePassword(place, dialog->password()); });
        connect(dialog, &QDialog::rejected, this, [this] { m_session.withoutPassword(); });
        dialog->open();
    });
}

void DataStation::showMarkedRows() {
    showPane("rows");
    m_rows->showOnlyMarked(true);
}

void DataStation::buildHead(QLayout* layout) {
    auto* head = new QHBoxLayout;
    head->setContentsMargins(8, 0, 8, 0);
    m_file = plainLabel({}, "heading");
    head->addWidget(m_file);
    m_notes = plainLabel({}, "hint");
    m_notes->setObjectName("hint");
    // Long notes are cut, never the buttons beside them; the tip has them whole.
    m_notes->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    head->addWidget(m_notes, 1);
    m_find = new FindField(tr("find a column"),
                           tr("Find a column by its name, role, type or what is odd about it"), "findColumn");
    m_find->setToolTip(tr("By name, role, type or what is odd (Ctrl+F)"));
    connect(m_find, &QLineEdit::textChanged, this, &DataStation::fillLedger);
    connect(m_find, &QLineEdit::returnPressed, this, [this] { m_ledger->goTo(); });
    findWith(*m_find);
    head->addWidget(m_find);
    auto link = [&](const QString& text, const QString& tip) {
        auto* button = linkButton(text, this);
        button->setToolTip(tip);
        head->addWidget(button);
        return button;
    };
    m_otherwise = link(tr("read otherwise…"),
                       tr("Delimiter, names, marks, dates, types; sheet and range; or the query"));
    connect(m_otherwise, &QPushButton::clicked, this, &DataStation::readOtherwise);
    m_again =
        link(tr("read again"),
             tr("Take the new content of the same source through the same steps, and say what changed (F5)"));
    connect(m_again, &QPushButton::clicked, this, [this] { m_session.readAgain(m_session.recipe().rows); });
    auto* again = new QShortcut(QKeySequence("F5"), this);
    connect(again, &QShortcut::activated, m_again, &QPushButton::click);
    m_source = new QPushButton(tr("Open rows ▾"), this);
    m_source->setObjectName("openRows");
    connect(m_source, &QPushButton::clicked, this, &DataStation::sourceMenu);
    head->addWidget(m_source);
    static_cast<QVBoxLayout*>(layout)->addLayout(head);
    m_doubtsLine = new QWidget(this);
    m_doubtsLine->setObjectName("readDoubts");
    m_doubtLinks = new QHBoxLayout(m_doubtsLine);
    m_doubtLinks->setContentsMargins(8, 0, 8, 2);
    m_doubts = plainLabel({}, "hint", m_doubtsLine);
    m_doubts->setWordWrap(true);
    m_doubtLinks->addWidget(m_doubts, 1);
    m_doubtsLine->hide();
    layout->addWidget(m_doubtsLine);
}

void DataStation::buildPanes(QWidget* below) {
    auto* layout = new QVBoxLayout(below);
    layout->setContentsMargins(0, 8, 0, 0);
    layout->setSpacing(2);
    auto* choice = new QHBoxLayout;
    choice->setContentsMargins(8, 0, 8, 0);
    auto tab = [&](const QString& name) {
        auto* button = linkButton({}, below);
        button->setProperty("pane", name);
        button->setCheckable(true);
        choice->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, name] { showPane(name); });
        return button;
    };
    m_showRows = tab("rows");
    m_showSteps = tab("steps");
    m_showParts = tab("parts");
    m_showFaults = tab("faults");
    choice->addStretch(1);
    layout->addLayout(choice);
    m_lower = new QStackedWidget(below);
    m_rows = new RowsPane(m_session, m_lower);
    m_steps = new StepsPane(m_session, m_lower);
    m_parts = new PartsPane(m_session, m_lower);
    m_faults = new GridView(tr("Cells that do not fit"), m_lower);
    m_faults->setObjectName("faults");
    m_faults->setModel(&m_faultsModel);
    for (QWidget* pane : std::initializer_list<QWidget*>{m_rows, m_steps, m_parts, m_faults})
        m_lower->addWidget(pane);
    layout->addWidget(m_lower);
    connect(m_faults, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_session.selectRow(index.data(DataRowRole).toULongLong()); });
    showPane("rows");
}

void DataStation::setRecent(const QStringList& paths) {
    m_start->setRecent(paths);
}

QWidget* DataStation::focusTarget() {
    if (!m_session.hasRows()) return m_start->findChild<QPushButton*>("primary");
    return m_ledger;
}

void DataStation::showPane(const QString& name) {
    const std::initializer_list<std::pair<QString, std::pair<QWidget*, QPushButton*>>> panes{
        {"rows", {m_rows, m_showRows}},
        {"steps", {m_steps, m_showSteps}},
        {"parts", {m_parts, m_showParts}},
        {"faults", {m_faults, m_showFaults}}};
    for (const auto& [pane, widgets] : panes) {
        widgets.second->setChecked(pane == name);
        widgets.second->setStyleSheet(pane == name ? "font-weight: 600; color: #1F2A2C;" : "");
        if (pane == name) m_lower->setCurrentWidget(widgets.first);
    }
}

void DataStation::refresh() {
    m_otherwise->setVisible(m_session.hasRows());
    m_again->setVisible(m_session.hasRows());
    m_find->setVisible(m_session.hasRows());
    m_body->setVisible(m_session.hasRows());
    m_start->setVisible(!m_session.hasRows());
    for (QWidget* widget : std::initializer_list<QWidget*>{m_find, m_otherwise, m_again})
        widget->setVisible(m_session.hasRows());
    if (!m_session.hasRows()) {
        m_file->setText(tr("No rows yet"));
        m_notes->setText({});
        m_doubtsLine->hide();
        m_showRows->setText(tr("Rows"));
        m_showSteps->setText(tr("Steps"));
        m_showParts->setText(tr("Parts"));
        m_showFaults->setText(tr("Cells that do not fit"));
        m_showFaults->setEnabled(false);
        m_steps->refresh();
        return;
    }
    const ReadReport& report = m_session.rows()->learning.report;
    m_file->setText(qs(report.file));
    QStringList notes{qs(plural(report.rows, "row", "rows") + ", " +
                         plural(m_session.table().columns().size(), "column", "columns"))};
    if (m_session.recipe().rows.kind == SourceKind::text) {
        const QString delimiter = report.format.delimiter == '\t' ? tr("tab")
                                  : report.format.delimiter == blankRuns
                                      ? tr("blanks")
                                      : QString(QChar(report.format.delimiter));
        notes << tr("delimiter %1").arg(delimiter)
              << tr("decimal mark %1").arg(QChar(report.format.decimalMark))
              << qs(encodingName(report.format.encoding));
    }
    for (const auto& note : report.notes)
        notes << qs(note);
    for (const Goad& remark : m_session.prepared()->ledger.tableRemarks)
        notes << qs(remark.title) + tr(" (as columns of few values bring by themselves)");
    m_notes->setText(notes.join(" · "));
    m_notes->setToolTip("<qt>" + notes.join("\n").toHtmlEscaped().replace("\n", "<br>") + "</qt>");
    showDoubts();
    fillLedger();
    m_faultsModel.setContent(faultsGrid(m_session));
    m_faults->fitColumns();
    m_rows->refresh();
    m_steps->refresh();
    m_parts->refresh();
    const auto& recipe = m_session.recipe();
    const auto& outcomes = m_session.prepared()->steps;
    const auto trouble = std::count_if(outcomes.begin(), outcomes.end(),
                                       [](const StepOutcome& o) { return !o.problem.empty(); });
    m_showRows->setText(tr("Rows (%1)").arg(qs(countText(report.rows))));
    m_showSteps->setText(trouble > 0 ? tr("Steps (%1, %2 cannot run)").arg(recipe.steps.size()).arg(trouble)
                                     : tr("Steps (%1)").arg(recipe.steps.size()));
    m_showParts->setText(tr("Parts (%1)").arg(m_session.prepared()->partSummaries.size()));
    m_showFaults->setText(tr("Cells that do not fit (%1)").arg(qs(countText(report.faultCount))));
    m_showFaults->setEnabled(report.faultCount > 0);
    if (report.faultCount == 0 && m_lower->currentWidget() == m_faults) showPane("rows");
    m_rows->showSelection();
}

void DataStation::showDoubts() {
    while (m_doubtLinks->count() > 1) {
        QLayoutItem* item = m_doubtLinks->takeAt(1);
        item->widget()->deleteLater();
        delete item;
    }
    const ReadReport& report = m_session.rows()->learning.report;
    const auto& doubts = report.doubts;
    m_doubtsLine->setVisible(!doubts.empty() || report.faultCount > 0);
    if (doubts.empty() && report.faultCount == 0) return;
    constexpr std::size_t shown = 3;
    QStringList said;
    if (report.faultCount > 0) said << qs(report.faultsText());
    for (std::size_t i = 0; i < std::min(shown, doubts.size()); ++i)
        said << qs(doubts[i].said);
    if (doubts.size() > shown) said << qs(countText(doubts.size() - shown)) + tr(" more");
    m_doubts->setText(tr("Not sure: ") + said.join(" · "));
    const RowsPlan& plan = m_session.recipe().rows;
    std::size_t links = 0;
    for (const ReadDoubt& doubt : doubts) {
        if (doubt.column.empty() || plan.text.kinds.contains(doubt.column) || ++links > 2) continue;
        auto* numbers =
            linkButton((doubt.as == ColumnKind::date ? tr("read %1 as dates") : tr("read %1 as numbers"))
                           .arg(qs(doubt.column).replace('&', "&&")),
                       m_doubtsLine);
        connect(numbers, &QPushButton::clicked, this, [this, column = doubt.column, as = doubt.as] {
            RowsPlan next = m_session.recipe().rows;
            next.text.kinds[column] = as;
            m_session.readAgain(next);
        });
        m_doubtLinks->addWidget(numbers);
    }
    auto* otherwise = linkButton(tr("read otherwise…"), m_doubtsLine);
    connect(otherwise, &QPushButton::clicked, this, &DataStation::readOtherwise);
    m_doubtLinks->addWidget(otherwise);
}

void DataStation::sortLedger(int column) {
    if (m_sortColumn != column) {
        m_sortColumn = column;
        m_sortDescending = false;
    } else if (!m_sortDescending) {
        m_sortDescending = true;
    } else {
        m_sortColumn = -1;
        m_sortDescending = false;
    }
    m_ledger->horizontalHeader()->setSortIndicatorShown(m_sortColumn >= 0);
    if (m_sortColumn >= 0)
        m_ledger->horizontalHeader()->setSortIndicator(m_sortColumn, m_sortDescending ? Qt::DescendingOrder
                                                                                      : Qt::AscendingOrder);
    fillLedger();
}

void DataStation::fillLedger() {
    GridModel::Content grid = ledgerGrid(m_session);
    const QString wanted = m_find->text().trimmed();
    std::vector<int> lines;
    for (int row = 0; row < grid.rows; ++row) {
        bool shown = wanted.isEmpty();
        for (const std::size_t column : {0U, 1U, 2U, 8U})
            shown = shown || grid.columns[column].text(row).contains(wanted, Qt::CaseInsensitive);
        if (shown) lines.push_back(row);
    }
    if (m_sortColumn >= 0) {
        const GridColumn& by = grid.columns[static_cast<std::size_t>(m_sortColumn)];
        auto key = [&](int row) { return by.raw ? by.raw(row) : QVariant(by.text(row)); };
        std::stable_sort(lines.begin(), lines.end(), [&](int a, int b) {
            const QVariant x = key(a);
            const QVariant y = key(b);
            if (!x.isValid() || !y.isValid()) return x.isValid() && !y.isValid();
            const int order = x.typeId() == QMetaType::QString
                                  ? QString::compare(x.toString(), y.toString(), Qt::CaseInsensitive)
                              : x.toDouble() < y.toDouble() ? -1
                              : x.toDouble() > y.toDouble() ? 1
                                                            : 0;
            return m_sortDescending ? order > 0 : order < 0;
        });
    }
    m_ledgerModel.setContent(rearranged(std::move(grid), std::move(lines)));
    m_ledger->fitColumns(150);
}

QString DataStation::columnAt(const QModelIndex& index) const {
    return index.siblingAtColumn(0).data().toString();
}

void DataStation::showColumn(const QString& column) {
    if (column == "\n") showPane("steps"); // a goad about a step
    if (column.trimmed().isEmpty()) return;
    m_find->clear();
    for (int row = 0; row < m_ledgerModel.rowCount(); ++row)
        if (m_ledgerModel.index(row, 0).data().toString() == column) {
            m_ledger->setCurrentIndex(m_ledgerModel.index(row, 0));
            m_ledger->scrollTo(m_ledgerModel.index(row, 0));
        }
    if (m_session.hasRows())
        for (const auto& [name, count] : m_session.rows()->learning.report.faultsByColumn)
            if (qs(name) == column) showPane("faults");
}

void DataStation::readOtherwise() {
    const RowsPlan plan = m_session.recipe().rows;
    if (plan.kind == SourceKind::sqlite || plan.kind == SourceKind::postgres) {
        auto* dialog = new DatabaseDialog(plan, qs(m_session.folder()), this);
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        connect(dialog, &QDialog::accepted, this, [this, dialog, plan] {
            RowsPlan next = plan;
            static_cast<RowsSource&>(next) = dialog->source();
            if (!dialog->password().isEmpty()) m_session.givePassword(next.server, dialog->password());
            m_session.readAgain(next);
        });
        dialog->open();
        return;
    }
    auto* dialog = new ReadingDialog(plan, qs(m_session.folder()), tr("Read again"), this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog, plan] {
        RowsPlan next = plan;
        static_cast<RowsSource&>(next) = dialog->source();
        if (!(next == plan)) m_session.readAgain(next);
    });
    dialog->open();
}

} // namespace oxgoad

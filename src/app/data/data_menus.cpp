// The menus of the Data station: where rows come from, and what is done with a column.
#include "app/brief/order_dialog.h"
#include "app/data/data_station.h"
#include "app/data/database_dialog.h"
#include "app/data/join_dialog.h"
#include "app/data/parts_pane.h"
#include "app/data/reading_dialog.h"
#include "app/data/rows_pane.h"
#include "app/data/steps_pane.h"
#include "app/parts.h"
#include "app/window/start_pane.h"
#include "base/text.h"
#include "recipe/recipe_edits.h"
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

/// A file's name as a recipe in a folder says it.
std::string nameFrom(const std::string& folder, const QString& path) {
    const std::filesystem::path file = std::filesystem::absolute(ss(path));
    std::error_code failure;
    const auto relative = std::filesystem::relative(file, folder, failure);
    return failure || relative.empty() || *relative.begin() == ".." ? file.string() : relative.string();
}

} // namespace

void DataStation::sourceMenu() {
    auto* menu = new QMenu(this);
    menu->setObjectName("sourceMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    auto add = [&](const QString& text, bool enabled, auto act) {
        auto* action = menu->addAction(text);
        action->setEnabled(enabled);
        connect(action, &QAction::triggered, this, act);
    };
    const bool there = m_session.hasRows();
    add(tr("Open a file…"), true, [this] { emit openWanted(); });
    add(tr("Open a file, looking at it first…"), true, [this] {
        const QString path = m_files.openFile(
            this, tr("Open rows"), tr("Rows (*.csv *.tsv *.txt *.xlsx *.xlsm *.ods);;All files (*)"));
        if (path.isEmpty()) return;
        RowsPlan plan;
        plan.file = ss(QFileInfo(path).fileName());
        plan.kind = kindOfFile(ss(path));
        const QString folder = QFileInfo(path).absolutePath();
        auto* dialog = new ReadingDialog(plan, folder, tr("Open"), this);
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        connect(dialog, &QDialog::accepted, this, [this, dialog, plan, folder] {
            RowsPlan next = plan;
            static_cast<RowsSource&>(next) = dialog->source();
            m_session.openPlan(next, folder);
        });
        dialog->open();
    });
    add(tr("Rows from a database…"), true, [this] { openDatabase(); });
    add(tr("Paste rows from the clipboard"), true,
        [this] { m_session.paste(QGuiApplication::clipboard()->text()); });
    menu->addSeparator();
    add(tr("Stack more rows below…"), there, [this] { stackMore(); });
    add(tr("Join a second table by key…"), there, [this] { joinTable(); });
    if (there) {
        const RowsPlan& plan = m_session.recipe().rows;
        for (std::size_t i = 0; i < plan.stacked.size(); ++i)
            add(tr("Take %1 out of the stack").arg(qs(sourceName(plan.stacked[i])).replace('&', "&&")), true,
                [this, i] {
                    RowsPlan next = m_session.draft().rows;
                    next.stacked.erase(next.stacked.begin() + static_cast<std::ptrdiff_t>(i));
                    if (next.stacked.empty()) next.originColumn.clear();
                    m_session.readAgain(next);
                });
        for (std::size_t i = 0; i < plan.joins.size(); ++i)
            add(tr("Take the join of %1 back").arg(qs(sourceName(plan.joins[i].source)).replace('&', "&&")),
                true, [this, i] {
                    RowsPlan next = m_session.draft().rows;
                    next.joins.erase(next.joins.begin() + static_cast<std::ptrdiff_t>(i));
                    m_session.readAgain(next);
                });
    }
    menu->popup(m_source->mapToGlobal(QPoint(0, m_source->height())));
}

void DataStation::openDatabase() {
    const QString path = m_files.openFile(this, tr("Choose an SQLite file; cancel for a PostgreSQL server"),
                                          tr("SQLite databases (*.sqlite *.sqlite3 *.db);;All files (*)"));
    RowsSource start;
    start.kind = path.isEmpty() ? SourceKind::postgres : SourceKind::sqlite;
    start.file = ss(QFileInfo(path).fileName());
    const QString folder = path.isEmpty() ? QString(".") : QFileInfo(path).absolutePath();
    auto* dialog = new DatabaseDialog(start, folder, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog, folder] {
        RowsPlan plan;
        static_cast<RowsSource&>(plan) = dialog->source();
        if (plan.kind == SourceKind::postgres && !dialog->password().isEmpty())
            m_session.givePassword(plan.server, dialog->password());
        m_session.openPlan(plan, folder);
    });
    dialog->open();
}

void DataStation::stackMore() {
    const QString path = m_files.openFile(this, tr("Choose rows of the same shape"),
                                          tr("Rows (*.csv *.tsv *.txt *.xlsx *.xlsm *.ods);;All files (*)"));
    if (path.isEmpty()) return;
    RowsPlan plan = m_session.recipe().rows;
    RowsSource source;
    source.file = nameFrom(m_session.folder(), path);
    source.kind = kindOfFile(ss(path));
    if (source.kind == plan.kind) { // written like the first one until somebody says otherwise
        source.text = plan.text;
        source.sheet = plan.sheet;
        source.range = plan.range;
    }
    if (plan.originColumn.empty())
        plan.originColumn = m_session.table().find("source") ? "source of the row" : "source";
    auto stack = [this, plan](const RowsSource& chosen) {
        RowsPlan next = plan;
        next.stacked.push_back(chosen);
        m_session.readAgain(next);
    };
    if (source.kind != SourceKind::workbook) {
        stack(source);
        return;
    }
    // Which sheet, the file name alone does not say.
    auto* dialog = new ReadingDialog(source, qs(m_session.folder()), tr("Stack below"), this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [dialog, stack] { stack(dialog->source()); });
    dialog->open();
}

void DataStation::joinTable() {
    const QString path = m_files.openFile(this, tr("Choose the second table"),
                                          tr("Rows (*.csv *.tsv *.txt *.xlsx *.xlsm *.ods);;All files (*)"));
    if (path.isEmpty()) return;
    RowsSource source;
    source.file = nameFrom(m_session.folder(), path);
    source.kind = kindOfFile(ss(path));
    m_jobs.start(tr("Reading"),
                 [this, source, folder = m_session.folder()](Progress& progress) -> Jobs::Finish {
                     auto second = std::make_shared<RowsRead>(readSource(source, folder, {}, {}, progress));
                     return [this, source, second] {
                         auto* dialog = new JoinDialog(m_session.rows()->learning.table, second->table,
                                                       qs(sourceName(source)), this);
                         dialog->setAttribute(Qt::WA_DeleteOnClose);
                         connect(dialog, &QDialog::accepted, this, [this, dialog, source] {
                             RowsPlan plan = m_session.recipe().rows;
                             plan.joins.push_back({source, dialog->keys()});
                             m_session.readAgain(plan);
                         });
                         dialog->open();
                     };
                 });
}

void DataStation::openColumn(const QModelIndex& index) {
    if (!index.isValid()) return;
    const LedgerLine* line = m_session.ledger().find(ss(columnAt(index)));
    if (!line) return;
    const std::string name = line->summary.name;
    const ColumnKind kind = line->summary.kind;
    auto* menu = new QMenu(this);
    menu->setObjectName("columnMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const Recipe& recipe = m_session.recipe();
    auto* response = menu->addAction(tr("Predict this column"));
    response->setEnabled(kind == ColumnKind::number && name != recipe.response);
    connect(response, &QAction::triggered, this, [this, name] {
        m_session.view().erase("response");
        m_session.change(withResponse(m_session.draft(), name));
    });
    if (canBeRanked(m_session, name)) {
        auto* ranks = menu->addAction(tr("Predict this column as ranks…"));
        ranks->setObjectName("predictRanks");
        connect(ranks, &QAction::triggered, this,
                [this, name] { (new OrderDialog(m_session, name, window()))->open(); });
    }
    const auto used = inputNames(recipe.terms);
    const bool in = std::find(used.begin(), used.end(), name) != used.end();
    auto* term = menu->addAction(in ? tr("Take out of the terms") : tr("Add to the terms"));
    term->setEnabled(name != recipe.response && kind != ColumnKind::text);
    connect(term, &QAction::triggered, this, [this, name, in] {
        Recipe next = m_session.draft();
        if (in)
            std::erase_if(next.terms, [&](const Term& t) { // with the products it is in
                return std::any_of(t.parts.begin(), t.parts.end(),
                                   [&](const TermPart& p) { return p.column == name; });
            });
        else
            next = withTerm(next, plainTerm(name));
        m_session.change(next);
    });
    auto* roles = menu->addMenu(tr("Role"));
    for (const Role role : {Role::predictor, Role::weight, Role::time, Role::group, Role::identifier,
                            Role::offset, Role::setAside}) {
        auto* action = roles->addAction(qs(roleName(role)));
        action->setCheckable(true);
        action->setChecked(roleOf(recipe, name) == role);
        action->setEnabled(name != recipe.response);
        connect(action, &QAction::triggered, this, [this, name, role] { m_session.setRole(name, role); });
    }
    connect(menu->addAction(tr("Unit…")), &QAction::triggered, this, [this, name] {
        auto* dialog = new QInputDialog(this);
        dialog->setObjectName("unitDialog");
        dialog->setAttribute(Qt::WA_DeleteOnClose);
        dialog->setWindowTitle(tr("Unit"));
        dialog->setLabelText(tr("Unit of %1, such as EUR a month").arg(qs(name)));
        for (auto* label : dialog->findChildren<QLabel*>())
            label->setTextFormat(Qt::PlainText);
        dialog->setTextValue(m_session.unit(name));
        connect(dialog, &QInputDialog::textValueSelected, this,
                [this, name](const QString& unit) { m_session.setUnit(name, ss(unit.trimmed())); });
        dialog->open();
    });
    auto* types = menu->addMenu(tr("Type"));
    for (const AskedKind& other : AskedKind::all()) {
        auto* action = types->addAction(tr("Read as %1").arg(qs(other.name())));
        action->setCheckable(true);
        action->setChecked(kindText(line->summary) == other.name());
        const bool read = m_session.rows()->learning.table.find(name) != nullptr;
        connect(action, &QAction::triggered, this, [this, name, other, read] {
            if (!read) { // a column made by a step
                m_session.addStep(
                    {"change type",
                     true,
                     {{"columns", std::vector<std::string>{name}}, {"to", std::string(other.name())}}});
                return;
            }
            RowsPlan plan = m_session.recipe().rows;
            plan.text.kinds[name] = other;
            m_session.readAgain(plan);
        });
    }
    auto* steps = menu->addMenu(tr("Add a step"));
    for (const StepKind& step : stepKinds()) {
        for (const StepField& field : step.fields) {
            if (field.type != FieldType::column && field.type != FieldType::columns) continue;
            const bool fits = field.kinds.empty() ||
                              std::find(field.kinds.begin(), field.kinds.end(), kind) != field.kinds.end();
            if (fits)
                connect(steps->addAction(qs(step.title)), &QAction::triggered, this,
                        [this, name, kindName = step.name, field] {
                            Step start{kindName, true, {}};
                            if (field.type == FieldType::column)
                                start.fields[field.key] = name;
                            else
                                start.fields[field.key] = std::vector<std::string>{name};
                            showPane("steps");
                            m_steps->askStep(start);
                        });
            break;
        }
    }
    if (!line->goads.empty()) menu->addSeparator();
    for (const Goad& goad : line->goads)
        for (const Move& move : goad.moves)
            if (move.edit)
                connect(
                    menu->addAction(
                        qs(goad.key.substr(0, goad.key.find(':')) + ": " + move.label).replace('&', "&&")),
                    &QAction::triggered, this, [this, edit = move.edit] { m_session.make(edit, {}); });
    menu->popup(m_ledger->viewport()->mapToGlobal(m_ledger->visualRect(index).bottomLeft()));
}

} // namespace oxgoad

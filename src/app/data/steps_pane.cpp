#include "app/data/steps_pane.h"

#include "app/data/step_dialog.h"
#include "app/parts.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMenu>
#include <QVBoxLayout>

namespace oxgoad {

StepsPane::StepsPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    auto* bar = new QHBoxLayout;
    bar->setContentsMargins(8, 0, 8, 0);
    m_hint = plainLabel({}, "hint");
    bar->addWidget(m_hint, 1);
    auto button = [&](const QString& text, const QString& name, const QString& tip, auto act) {
        auto* b = linkButton(text, this);
        b->setProperty("step", name);
        b->setToolTip(tip);
        connect(b, &QPushButton::clicked, this, act);
        bar->addWidget(b);
        return b;
    };
    m_edit = button(tr("edit…"), "edit", tr("Change the step (Return)"), [this] { edit(row()); });
    m_up = button(tr("earlier"), "up", tr("Run it before the one above (Ctrl+Up)"), [this] { move(-1); });
    m_down = button(tr("later"), "down", tr("Run it after the one below (Ctrl+Down)"), [this] { move(1); });
    m_remove = button(tr("remove"), "remove", tr("Take the step out (Delete)"), [this] { remove(); });
    m_add = new QPushButton(tr("Add a step…"), this);
    m_add->setObjectName("addStep");
    connect(m_add, &QPushButton::clicked, this, &StepsPane::addMenu);
    bar->addWidget(m_add);
    layout->addLayout(bar);
    m_view = new GridView(tr("Steps of preparation"), this);
    m_view->setObjectName("steps");
    m_view->setModel(&m_model);
    m_view->setSelectionMode(QAbstractItemView::SingleSelection);
    m_view->installEventFilter(this);
    layout->addWidget(m_view, 1);
    connect(m_view, &GridView::opened, this, [this](const QModelIndex& index) { edit(index.row()); });
    connect(m_view, &GridView::lineChosen, this, &StepsPane::updateButtons);
    updateButtons();
}

QWidget* StepsPane::focusTarget() const {
    return m_view;
}

void StepsPane::refresh() {
    const int before = row();
    m_model.setContent(stepsGrid(m_session));
    m_view->fitColumns(430);
    if (before >= 0 && before < m_model.rowCount()) m_view->setCurrentIndex(m_model.index(before, 0));
    m_hint->setText(m_model.rowCount() == 0
                        ? tr("No steps yet. What a step learns, it learns from learning rows only, and it "
                             "runs again on next month's rows.")
                        : tr("Medians, fences, scales and level lists are learned from learning rows only."));
    m_add->setEnabled(m_session.hasRows());
    updateButtons();
}

int StepsPane::row() const {
    return m_view->currentIndex().isValid() ? m_view->currentIndex().row() : -1;
}

void StepsPane::updateButtons() {
    const int at = row();
    const int count = m_model.rowCount();
    m_edit->setEnabled(at >= 0);
    m_remove->setEnabled(at >= 0);
    m_up->setEnabled(at > 0);
    m_down->setEnabled(at >= 0 && at + 1 < count);
}

void StepsPane::addMenu() {
    auto* menu = new QMenu(this);
    menu->setObjectName("stepMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    std::string group;
    QMenu* part = nullptr;
    for (const char* wanted : {"rows", "values", "numbers", "levels", "dates and series", "columns"})
        for (const StepKind& kind : stepKinds()) {
            if (kind.group != wanted) continue;
            if (kind.group != group) {
                group = kind.group;
                part = menu->addMenu(qs(group));
            }
            connect(part->addAction(qs(kind.title)), &QAction::triggered, this, [this, name = kind.name] {
                askStep({name, true, {}});
            });
        }
    menu->popup(m_add->mapToGlobal(QPoint(0, m_add->height())));
}

void StepsPane::askStep(const Step& start) {
    auto* dialog = new StepDialog(m_session, start, m_session.recipe().steps.size(), this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog] { m_session.addStep(dialog->step()); });
    dialog->open();
}

void StepsPane::edit(int at) {
    const auto& steps = m_session.recipe().steps;
    if (at < 0 || at >= static_cast<int>(steps.size())) return;
    const auto index = static_cast<std::size_t>(at);
    auto* dialog = new StepDialog(m_session, steps[index], index, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog, index] {
        auto next = m_session.recipe().steps;
        if (index >= next.size()) return;
        next[index] = dialog->step();
        m_session.setSteps(std::move(next));
    });
    dialog->open();
}

void StepsPane::move(int by) {
    auto next = m_session.recipe().steps;
    const int from = row();
    const int to = from + by;
    if (from < 0 || to < 0 || to >= static_cast<int>(next.size())) return;
    std::swap(next[static_cast<std::size_t>(from)], next[static_cast<std::size_t>(to)]);
    m_view->setCurrentIndex(m_model.index(to, 0));
    m_session.setSteps(std::move(next));
}

void StepsPane::remove() {
    auto next = m_session.recipe().steps;
    const int at = row();
    if (at < 0 || at >= static_cast<int>(next.size())) return;
    next.erase(next.begin() + at);
    m_session.setSteps(std::move(next));
}

bool StepsPane::eventFilter(QObject* watched, QEvent* event) {
    if (watched == m_view && event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool control = (key->modifiers() & Qt::ControlModifier) != 0;
        if (key->key() == Qt::Key_Delete) {
            remove();
            return true;
        }
        if (control && (key->key() == Qt::Key_Up || key->key() == Qt::Key_Down)) {
            move(key->key() == Qt::Key_Up ? -1 : 1);
            return true;
        }
    }
    return QWidget::eventFilter(watched, event);
}

} // namespace oxgoad

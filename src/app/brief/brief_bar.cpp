#include "app/brief/brief_bar.h"

#include "app/brief/order_dialog.h"
#include "app/brief/settings_dialog.h"
#include "recipe/recipe_edits.h"

#include "app/data/parts_pane.h"
#include "app/parts.h"
#include "app/plots/fold_marks.h"
#include "app/theme.h"
#include "base/text.h"
#include "recipe/validity.h"
#include "study/say.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QMenu>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

BriefBar::BriefBar(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    setObjectName("briefBar");
    setAttribute(Qt::WA_StyledBackground);
    setAccessibleName(tr("Brief"));
    auto* outer = new QVBoxLayout(this);
    outer->setContentsMargins(20, 10, 20, 8);
    auto* inner = new QWidget(this);
    m_flow = new FlowLayout(inner, 5, 2);
    QSizePolicy policy(QSizePolicy::Expanding, QSizePolicy::MinimumExpanding);
    policy.setHeightForWidth(true);
    inner->setSizePolicy(policy);
    outer->addWidget(inner);
    setMinimumHeight(68);
    connect(&session, &Session::fitChanged, this, &BriefBar::rebuild);
    connect(&session, &Session::rowsChanged, this, &BriefBar::rebuild);
    connect(&session, &Session::foldsProgressed, this, &BriefBar::rebuild);
    constexpr int moment = 400; // ms; a quicker fit is there before anybody wonders
    m_stale.setSingleShot(true);
    m_stale.setInterval(moment);
    connect(&m_stale, &QTimer::timeout, this, &BriefBar::rebuild);
    connect(&session, &Session::draftChanged, this, [this] {
        if (!sameModel(m_session.draft(), m_session.recipe())) m_stale.start();
    });
    rebuild();
}

void BriefBar::tellForecast(bool forecast) {
    if (m_forecast == forecast) return;
    m_forecast = forecast;
    rebuild();
}

void BriefBar::addWord(const QString& text) {
    // Long sayings break where the bar does.
    constexpr int longest = 12;
    if (text.size() > longest && text.contains(' ')) {
        for (const QString& word : text.split(' ', Qt::SkipEmptyParts))
            addWord(word);
        return;
    }
    auto* label = plainLabel(text, "briefWord", m_flow->parentWidget());
    m_flow->addWidget(label);
    label->show();
}

void BriefBar::addStrong(const QString& text) {
    auto* label = plainLabel(text, "briefStrong", m_flow->parentWidget());
    m_flow->addWidget(label);
    label->show();
}

QPushButton* BriefBar::addPart(const QString& name, const QString& text,
                               const std::function<void(QPushButton*)>& act) {
    auto* button = new QPushButton(QString(text).replace('&', "&&"), m_flow->parentWidget());
    button->setObjectName("briefPart");
    button->setProperty("part", name);
    button->setFlat(true);
    button->setCursor(Qt::PointingHandCursor);
    button->setAccessibleName(name + ": " + text);
    connect(button, &QPushButton::clicked, this, [act, button] { act(button); });
    m_flow->addWidget(button);
    button->show();
    return button;
}

void BriefBar::rebuild() {
    while (QLayoutItem* item = m_flow->takeAt(0)) {
        if (item->widget()) {
            item->widget()->hide();
            item->widget()->deleteLater();
        }
        delete item;
    }
    if (!m_session.hasRows()) {
        addPart(tr("rows"), tr("Open rows"), [this](QPushButton*) { emit openWanted(); });
        addWord(tr("to fit a model: a text file, a recipe or a project."));
    } else if (m_forecast) {
        tellForecastSentence();
    } else {
        tellModel();
    }
    m_flow->invalidate();
    updateGeometry();
}

void BriefBar::tellModel() {
    const Recipe& recipe = m_session.recipe();
    const auto& e = m_session.evidence();
    const QString unit = m_session.unit(recipe.response);
    addWord(tr("Predict"));
    addPart(tr("response"), recipe.response.empty() ? tr("a column to choose") : qs(recipe.response),
            [this](QPushButton* b) { chooseResponse(b); });
    if (!unit.isEmpty()) addWord("(" + unit + ")");
    if (const auto said = m_session.view().find("response");
        recipe.terms.empty() && said != m_session.view().end() && said->second == "guess")
        addWord(tr("(a guess: click to choose another)"));
    if (recipe.logResponse) addWord(tr("through its logarithm"));
    addWord(tr("from"));
    addPart(tr("terms"),
            recipe.terms.empty() ? tr("no terms yet") : qs(plural(recipe.terms.size(), "term", "terms")),
            [this](QPushButton*) { emit termsWanted(); });
    if (recipe.choose) {
        const auto in = [&] {
            std::size_t count = 0;
            for (std::size_t t = 0; t < recipe.terms.size(); ++t)
                count += e->study->has(t);
            return count;
        };
        addWord(tr("(chosen %1%2)")
                    .arg(qs(choosePlanText(*recipe.choose)), e ? tr(": %1 in").arg(in()) : QString()));
    }
    addWord(tr("by"));
    QString estimator = qs(estimatorText(recipe.estimator));
    if (!recipe.intercept) estimator += tr(" without a constant");
    if (recipe.errors.kind != CovarianceKind::homoskedastic)
        estimator += tr(" with ") + qs(errorsText(recipe.errors));
    if (const std::string weight = columnWith(recipe, Role::weight); !weight.empty())
        estimator = tr("weighted ") + estimator + tr(", weights ") + qs(weight);
    if (const std::string offset = columnWith(recipe, Role::offset); !offset.empty())
        estimator += tr(", offset ") + qs(offset);
    addPart(tr("estimator"), estimator, [this](QPushButton* b) { chooseEstimator(b); });
    addWord(",");
    if (e) {
        addWord(tr("learning from"));
        addPart(tr("rows"), qs(plural(e->rowsLearning, "row", "rows")),
                [this](QPushButton* b) { chooseRows(b); });
        addWord(",");
        tellJudging();
    } else {
        if (recipe.judge) {
            addWord(tr("to be judged by"));
            addPart(tr("folds"), qs(foldPlanText(*recipe.judge)), [this](QPushButton* b) { chooseRows(b); });
        }
        if (recipe.setAside || !recipe.judge) {
            addWord(recipe.judge ? tr("and on") : tr("with"));
            addPart(tr("held-out rows"),
                    recipe.setAside ? qs(setAsideText(*recipe.setAside)) : tr("no rows held out"),
                    [this](QPushButton* b) { chooseRows(b); });
        }
        addWord(tr(". Tick a column in Fit to begin."));
    }
    if (e && !m_stale.isActive() && !sameModel(m_session.draft(), recipe))
        addWord(tr("This is fit %1; a newer one is being worked out…").arg(m_session.current()));
}

void BriefBar::tellJudging() {
    const Recipe& recipe = m_session.recipe();
    const Evidence& e = *m_session.evidence();
    if (recipe.judge) {
        addWord(tr("judged by"));
        addPart(tr("folds"), qs(foldPlanText(*recipe.judge)), [this](QPushButton* b) { chooseFolds(b); });
        addWord(":");
        const auto& found = e.folds ? e.folds : m_session.foldsSoFar();
        if (found)
            tellFolds(*found);
        else
            addWord(m_session.foldJobs().busy() ? tr("working it out…") : tr("not judged."));
        if (!recipe.setAside) return;
        addWord(tr("And on"));
    } else {
        addWord(tr("judged on"));
    }
    const QString judged =
        recipe.setAside && recipe.setAside->heldOutLearn ? tr("no rows: those held out learn too")
        : recipe.setAside ? qs(plural(e.rowsHeldOut, "row", "rows")) + " " + qs(judgedText(*recipe.setAside))
                          : tr("no rows held out");
    addPart(tr("held-out rows"), judged, [this](QPushButton* b) { chooseRows(b); });
    tellHeldOut(e);
}

void BriefBar::addError(double rmse, double error) {
    const QString unit = m_session.unit(m_session.recipe().response);
    const auto [scale, word] = scaleWord(rmse);
    addStrong(qs(readableText(rmse / scale, 3)) +
              (std::isfinite(error) ? " ± " + qs(readableText(error / scale, 2)) : QString()) + qs(word) +
              (unit.isEmpty() ? QString() : " " + unit.section(' ', 0, 0)));
}

void BriefBar::tellFolds(const FoldEvidence& folds) {
    const Evidence& e = *m_session.evidence();
    addWord(tr("typically off by"));
    const bool plus = folds.bootstrap.has_value();
    const double rmse = plus ? std::sqrt(folds.bootstrap->plus632) : folds.rmse;
    addError(rmse, folds.rmseError);
    if (folds.partial()) {
        addWord(tr("in the first %1 of %2,").arg(qs(countText(folds.done)), qs(countText(folds.asked))));
        if (!e.folds) {
            addWord(tr("going on…"));
            return;
        }
    } else {
        addWord(",");
    }
    addWord(qs(readableText(100 * rmse / std::fabs(e.learning.meanActual), 2)) + tr(" % of the mean."));
    if (folds.each.size() > 1) {
        const QString unit = m_session.unit(m_session.recipe().response).section(' ', 0, 0);
        auto* marks = new FoldMarks(std::make_shared<const FoldEvidence>(folds),
                                    unit.isEmpty() ? unit : " " + unit, m_flow->parentWidget());
        m_flow->addWidget(marks);
        marks->show();
    }
}

void BriefBar::tellHeldOut(const Evidence& e) {
    if (e.heldOut.rows < 2) {
        addWord(".");
        return;
    }
    addWord(":");
    addWord(tr("typically off by"));
    addError(e.heldOut.rmse, e.heldOut.rmseError);
    addWord(",");
    addWord(qs(readableText(100 * e.heldOut.rmse / std::fabs(e.heldOut.meanActual), 2)) +
            tr(" % of the mean."));
    const auto [scale, word] = scaleWord(e.heldOut.rmse);
    if (e.heldOutKept)
        addWord(tr("%1 without %2.")
                    .arg(qs(readableText(e.heldOutKept->rmse / scale, 3)) + qs(word),
                         qs(plural(e.heldOut.rows - e.heldOutKept->rows, "row that a step leaves out",
                                   "rows that steps leave out"))));
}

void BriefBar::tellForecastSentence() {
    const Recipe& recipe = m_session.recipe();
    const auto& e = m_session.evidence();
    const QString unit = m_session.unit(recipe.response);
    addWord(tr("Forecast"));
    addPart(tr("response"), recipe.response.empty() ? tr("a column to choose") : qs(recipe.response),
            [this](QPushButton* b) { chooseResponse(b); });
    if (!unit.isEmpty()) addWord("(" + unit + ")");
    addWord(tr("for"));
    if (!e || !e->forecast) {
        addPart(tr("rows to forecast"), tr("rows to choose"),
                [this](QPushButton*) { emit forecastRowsWanted(); });
        addWord(m_session.current() ? tr("with fit %1.").arg(m_session.current())
                                    : tr("once there is a fit."));
        return;
    }
    const ForecastEvidence& f = *e->forecast;
    addPart(tr("rows to forecast"), qs(plural(f.prediction.size(), "row", "rows")) + tr(" of ") + qs(f.file),
            [this](QPushButton*) { emit forecastRowsWanted(); });
    addWord(tr("with"));
    addStrong(tr("fit %1").arg(m_session.current()));
    addWord(",");
    addPart(tr("level"), tr("%1 intervals").arg(qs(percentText(f.level))),
            [this](QPushButton* b) { chooseLevel(b); });
    addWord(":");
    addStrong(qs(countText(f.outside)) + (f.outside == 1 ? tr(" row is outside") : tr(" rows are outside")));
    addWord(tr("what the model has seen, %1 at the edge.").arg(qs(countText(f.edge))));
    if (f.unpredicted > 0) addWord(qs(unpredictedText(f)) + ".");
}

QString BriefBar::sentence() const {
    QString text;
    for (int i = 0; i < m_flow->count(); ++i) {
        const auto* label = qobject_cast<QLabel*>(m_flow->itemAt(i)->widget());
        const auto* button = qobject_cast<QPushButton*>(m_flow->itemAt(i)->widget());
        const QString word = label    ? label->text()
                             : button ? QString(button->text()).replace("&&", "&")
                                      : QString();
        if (!text.isEmpty() && !QString(",.:").contains(word.left(1))) text += ' ';
        text += word;
    }
    return text;
}

void BriefBar::chooseResponse(QPushButton* at) {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (const LedgerLine& line : m_session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (column.kind != ColumnKind::number) {
            if (!canBeRanked(m_session, column.name)) continue;
            auto* ranks = menu->addAction(tr("%1, as ranks…").arg(qs(column.name)).replace('&', "&&"));
            ranks->setCheckable(true);
            ranks->setChecked(column.name == m_session.recipe().response);
            connect(ranks, &QAction::triggered, this,
                    [this, name = column.name] { (new OrderDialog(m_session, name, window()))->open(); });
            continue;
        }
        auto* action = menu->addAction(qs(column.name).replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(column.name == m_session.recipe().response);
        connect(action, &QAction::triggered, this, [this, name = column.name] {
            m_session.view().erase("response");
            m_session.change(withResponse(m_session.draft(), name));
        });
    }
    menu->popup(at->mapToGlobal(QPoint(0, at->height())));
}

void BriefBar::chooseEstimator(QPushButton* at) {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const Recipe& now = m_session.recipe();
    const auto offer = [this](QMenu* in, const QString& text, bool checked,
                              const std::function<void(Recipe&)>& change) {
        auto* action = in->addAction(QString(text).replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(checked);
        connect(action, &QAction::triggered, this, [this, change] {
            Recipe recipe = m_session.draft();
            change(recipe);
            m_session.change(recipe);
        });
    };
    const auto estimate = [&](QMenu* in, const QString& text, const Settings& estimator) {
        offer(in, text, now.estimator == estimator,
              [estimator](Recipe& recipe) { recipe = withEstimator(recipe, estimator); });
    };
    for (const ModelKind& kind : modelKinds()) {
        // Few are offered beside the others, many under the name of the kind.
        QMenu* in = kind.offers.size() > 2 ? menu->addMenu(qs(kind.title)) : menu;
        for (const ModelOffer& choice : kind.offers)
            estimate(in, qs(choice.title), choice.settings);
        if (kind.fields.empty()) continue;
        QString others = in == menu ? tr("%1, other settings…").arg(qs(kind.title)) : tr("Other settings…");
        connect(in->addAction(others.replace('&', "&&")), &QAction::triggered, this,
                [this, name = kind.name] { askSettings(name); });
    }
    menu->addSeparator();
    offer(menu, tr("With a constant"), now.intercept,
          [](Recipe& recipe) { recipe.intercept = !recipe.intercept; });
    offer(menu, tr("Through the logarithm of the response"), now.logResponse,
          [](Recipe& recipe) { recipe.logResponse = !recipe.logResponse; });
    auto* errors = menu->addMenu(tr("Standard errors"));
    errors->setEnabled(kindOf(now.estimator).leastSquares);
    const auto stand = [&](QMenu* in, const QString& text, const Errors& kind) {
        offer(in, text, now.errors == kind, [kind](Recipe& recipe) { recipe.errors = kind; });
    };
    stand(errors, tr("For equal spread"), {});
    stand(errors, tr("For unequal spread, small samples (HC3)"), {CovarianceKind::hc3, {}, -1});
    stand(errors, tr("For unequal spread (HC2)"), {CovarianceKind::hc2, {}, -1});
    stand(errors, tr("For unequal spread (HC1)"), {CovarianceKind::hc1, {}, -1});
    stand(errors, tr("For unequal spread (HC0)"), {CovarianceKind::hc0, {}, -1});
    auto* groups = errors->addMenu(tr("For groups of rows that depend on each other"));
    auto* few = errors->addMenu(tr("For groups, when there are few (below about 30)"));
    auto* serial = errors->addMenu(tr("For serial dependence over"));
    for (const LedgerLine& line : m_session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (column.name == now.response || column.kind == ColumnKind::text) continue;
        if (column.kind == ColumnKind::factor || column.kind == ColumnKind::date) {
            stand(groups, qs(column.name), {CovarianceKind::clustered, column.name, -1});
            stand(few, qs(column.name), {CovarianceKind::clusteredFewGroups, column.name, -1});
        }
        if (column.kind == ColumnKind::date || column.kind == ColumnKind::number)
            stand(serial, qs(column.name), {CovarianceKind::autocorrelated, column.name, -1});
    }
    menu->setObjectName("estimatorMenu");
    menu->popup(at->mapToGlobal(QPoint(0, at->height())));
}

void BriefBar::askSettings(const std::string& kind) {
    const Settings& now = m_session.draft().estimator;
    auto* dialog = new SettingsDialog(now.kind == kind ? now : Settings{kind}, this);
    connect(dialog, &QDialog::accepted, this,
            [this, dialog] { m_session.change(withEstimator(m_session.draft(), dialog->settings())); });
    dialog->open();
}

void BriefBar::chooseRows(QPushButton*) {
    askParts(m_session, this);
}

void BriefBar::chooseFolds(QPushButton* at) {
    const auto& judge = m_session.recipe().judge;
    if (!judge || !judge->repeatsWell()) {
        chooseRows(at);
        return;
    }
    auto* menu = new QMenu(this);
    menu->setObjectName("foldsMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    connect(menu->addAction(tr("How it is judged…")), &QAction::triggered, this,
            [this, at] { chooseRows(at); });
    menu->addSeparator();
    for (const int times : {1, 5, 10, 20}) {
        auto* action =
            menu->addAction(times == 1 ? tr("Dealt once, seed %1").arg(judge->seed)
                                       : tr("Deal again: %1 times, seeds %2 to %3")
                                             .arg(times)
                                             .arg(judge->seed)
                                             .arg(judge->seed + static_cast<std::uint64_t>(times) - 1));
        action->setCheckable(true);
        action->setChecked(judge->repeats == times);
        connect(action, &QAction::triggered, this, [this, times] { m_session.dealAgain(times); });
    }
    menu->popup(at->mapToGlobal(QPoint(0, at->height())));
}

void BriefBar::chooseLevel(QPushButton* at) {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (const double level : {0.5, 0.8, 0.9, 0.95, 0.99}) {
        auto* action = menu->addAction(tr("%1 intervals").arg(qs(percentText(level))));
        action->setCheckable(true);
        action->setChecked(m_session.recipe().forecast && m_session.recipe().forecast->level == level);
        connect(action, &QAction::triggered, this, [this, level] { m_session.setForecastLevel(level); });
    }
    menu->popup(at->mapToGlobal(QPoint(0, at->height())));
}

} // namespace oxgoad

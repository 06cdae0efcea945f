#include "app/fit/choose_pane.h"

#include "app/parts.h"
#include "app/station.h"
#include "base/error.h"
#include "base/text.h"
#include "workspace/choose_grid.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <array>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::array ways{ChooseBy::forward, ChooseBy::backward, ChooseBy::bothWays, ChooseBy::bestSubsets};
constexpr std::array criteria{ChooseCriterion::crossValidated, ChooseCriterion::adjustedRSquared,
                              ChooseCriterion::aicc, ChooseCriterion::bic, ChooseCriterion::pValue};

QString name(std::string_view text) {
    return qs(std::string(text));
}

} // namespace

ChoosePane::ChoosePane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(4);
    const auto box = [&](const QString& accessible, const QString& object) {
        return plainBox(accessible, object, this);
    };
    auto* first = new QHBoxLayout;
    m_by = box(tr("Way of choosing"), "chooseWay");
    for (const ChooseBy by : ways)
        m_by->addItem(name(chooseByName(by)));
    m_criterion = box(tr("Criterion"), "chooseCriterion");
    m_criterion->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    for (const ChooseCriterion criterion : criteria)
        m_criterion->addItem(name(criterionName(criterion)));
    first->addWidget(m_by);
    first->addWidget(plainLabel(tr("by"), "hint"));
    first->addWidget(m_criterion);
    first->addStretch(1);
    m_choose = linkButton(tr("choose"), this);
    m_choose->setObjectName("chooseTerms");
    first->addWidget(m_choose);
    m_take = linkButton(tr("take these terms"), this);
    m_take->setObjectName("takeChosen");
    m_take->hide();
    first->addWidget(m_take);
    m_always = linkButton(tr("choose in every fit"), this);
    m_always->setObjectName("chooseAlways");
    m_always->setToolTip(tr("The model is then \"these terms, chosen so\": folds judge the choice with it"));
    m_always->hide();
    m_fix = linkButton(tr("choose no more"), this);
    m_fix->setObjectName("chooseNoMore");
    m_fix->setToolTip(tr("Keeps the terms that are in the model, as if they had been ticked by hand"));
    connect(m_fix, &QPushButton::clicked, this, [this] {
        const auto& evidence = m_session.evidence();
        if (!evidence) return;
        Recipe recipe = m_session.recipe();
        recipe.terms = evidence->study->terms();
        recipe.choose.reset();
        m_session.changeFrom(m_session.recipe(), recipe);
    });
    const auto showFix = [this] { m_fix->setVisible(m_session.recipe().choose.has_value()); };
    connect(&session, &Session::fitChanged, this, showFix);
    showFix();
    layout->addLayout(first);
    auto* second = new QHBoxLayout;
    const auto spin = [&](const QString& accessible, int low, int high, int value) {
        auto* s = new WholeBox(low, high, this);
        s->setAccessibleName(accessible);
        s->setFixedWidth(44);
        s->setValue(value);
        return s;
    };
    m_steps = spin(tr("Steps at most"), 0, 1000, 0);
    m_steps->setObjectName("chooseSteps");
    m_steps->setSpecialValueText(tr("any"));
    m_folds = spin(tr("Folds"), 2, 20, 5);
    m_hierarchy = new QCheckBox(tr("products keep their parts"), this);
    m_hierarchy->setChecked(true);
    second->addWidget(plainLabel(tr("at most"), "hint"));
    second->addWidget(m_steps);
    second->addWidget(plainLabel(tr("steps,"), "hint"));
    second->addWidget(m_folds);
    second->addWidget(plainLabel(tr("folds"), "hint"));
    second->addWidget(m_hierarchy);
    QWidget* limits = new QWidget(this);
    auto* limitsLayout = new QHBoxLayout(limits);
    limitsLayout->setContentsMargins(0, 0, 0, 0);
    const auto limit = [&](const QString& accessible, const QString& before, double value) {
        auto* s = new NumberBox(limits);
        s->setAccessibleName(accessible);
        s->setRange(0.0001, 0.9999);
        s->setDecimals(4);
        s->setValue(value);
        s->setFixedWidth(62);
        limitsLayout->addWidget(plainLabel(before, "hint", limits));
        limitsLayout->addWidget(s);
        return s;
    };
    m_enter = limit(tr("A term comes in below p"), tr("in below"), 0.05);
    m_leave = limit(tr("A term goes out above p"), tr("out above"), 0.1);
    second->addWidget(limits);
    limits->hide();
    connect(m_criterion, &QComboBox::currentIndexChanged, this, [this, limits](int index) {
        const bool byP = criteria[static_cast<std::size_t>(index)] == ChooseCriterion::pValue;
        limits->setVisible(byP);
        m_hierarchy->setText(byP ? tr("parts kept") : tr("products keep their parts"));
    });
    second->addStretch(1);
    second->addWidget(m_always);
    second->addWidget(m_fix);
    layout->addLayout(second);
    m_terms = new GridView(tr("Chosen terms"), this);
    m_terms->setObjectName("chosen");
    m_terms->setModel(&m_model);
    layout->addWidget(m_terms, 1);
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("chosenSaid");
    m_said->setWordWrap(true);
    layout->addWidget(m_said);
    connect(m_choose, &QPushButton::clicked, this, &ChoosePane::choose);
    connect(m_take, &QPushButton::clicked, this, [this] { m_session.takePath(m_base, m_path); });
    connect(m_always, &QPushButton::clicked, this, [this] {
        Recipe recipe = m_base;
        recipe.terms.clear();
        for (const ChosenTerm& candidate : m_choice->candidates)
            recipe.terms.push_back(candidate.term);
        recipe.choose = m_asked;
        recipe.chosen.reset();
        m_session.changeFrom(m_base, recipe);
    });
    forget();
}

void ChoosePane::forget() {
    m_session.chooseJobs().stop();
    m_path.clear();
    m_model.setContent({});
    m_take->hide();
    m_always->hide();
    m_said->setText(
        tr("Chooses among the terms of the model and every other column as it is, on the learning rows. The "
           "choice is made anew without each fold, to see what it is worth."));
}

void ChoosePane::choose() {
    const auto prepared = m_session.prepared();
    if (!prepared) return;
    ChooseRequest request;
    request.by = ways[static_cast<std::size_t>(m_by->currentIndex())];
    request.criterion = criteria[static_cast<std::size_t>(m_criterion->currentIndex())];
    request.mostSteps = m_steps->value();
    request.folds = m_folds->value();
    request.hierarchy = m_hierarchy->isChecked();
    request.enter = m_enter->value();
    request.leave = m_leave->value();
    m_asked = request;
    m_take->hide();
    m_always->hide();
    m_model.setContent({});
    m_said->setText(tr("Choosing…"));
    m_session.chooseJobs().start(
        tr("Choosing terms"),
        [this, prepared, request, recipe = m_session.recipe()](Progress& progress) -> Jobs::Finish {
            int steps = 0;
            const auto soFar = [&](const ChooseStep& step) {
                const QString said =
                    tr("Step %1: %2 %3").arg(++steps).arg(step.in ? "+" : "−", qs(termName(step.term)));
                QMetaObject::invokeMethod(this, [this, said] {
                    if (m_session.chooseJobs().busy()) m_said->setText(said);
                });
            };
            try {
                auto choice = std::make_shared<const Choice>(
                    chooseTerms(recipe, *prepared, request, {}, progress, soFar));
                return [this, choice, recipe] { show(choice, recipe); };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] { m_said->setText(why); };
            }
        });
}

void ChoosePane::show(std::shared_ptr<const Choice> choice, const Recipe& recipe) {
    m_base = recipe;
    m_path = pathOf(recipe, *choice);
    m_choice = choice;
    m_model.setContent(chooseGrid(choice));
    m_terms->fitColumns(180);
    const QString unit = recipe.logResponse ? tr(" (logarithm)")
                         : m_session.unit(recipe.response).isEmpty()
                             ? QString()
                             : " " + m_session.unit(recipe.response).section(' ', 0, 0);
    QString said =
        tr("%1 of %2 chosen %3. Error over the folds it looked at %4%5; chosen anew in every fold (%7) %6%8, "
           "which is what to expect.")
            .arg(choice->terms.size())
            .arg(qs(plural(choice->candidates.size(), "term", "terms")), qs(choice->how),
                 qs(readableText(choice->seenError)), unit, qs(readableText(choice->honestError)),
                 qs(choice->judgedBy),
                 m_session.unit(recipe.response).isEmpty()
                     ? QString()
                     : " " + m_session.unit(recipe.response).section(' ', 0, 0));
    if (!choice->notSelected.empty()) {
        QStringList names;
        for (const std::string& name : choice->notSelected)
            names << qs(name);
        said += tr(" %1 passed over.").arg(choice->notSelected.size());
        m_said->setToolTip(tr("Rows cannot tell them apart from others, or they have too many levels: %1")
                               .arg(names.join(", "))
                               .toHtmlEscaped());
    }
    m_said->setText(said);
    m_take->setVisible(!choice->terms.empty());
    m_always->setVisible(!choice->terms.empty());
}

} // namespace oxgoad

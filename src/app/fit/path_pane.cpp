#include "app/fit/path_pane.h"

#include "app/fit/path_picture.h"
#include "app/parts.h"
#include "app/station.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "workspace/path_grid.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QTimer>
#include <QVBoxLayout>
#include <algorithm>

namespace oxgoad {

namespace {

/// As long as a handle moves, fits follow so often.
constexpr int restAfter = 60;

} // namespace

PathPane::PathPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    auto* head = new QHBoxLayout;
    const auto link = [&](const QString& text, const char* name, const QString& tip = {}) {
        auto* button = linkButton(text, this);
        button->setObjectName(name);
        button->setToolTip(tip);
        head->addWidget(button);
        return button;
    };
    m_drawn = link(tr("drawn"), "pathDrawn");
    m_listed = link(tr("as a list"), "pathListed");
    m_drawn->setCheckable(true);
    m_listed->setCheckable(true);
    head->addSpacing(12);
    m_scale = link({}, "pathScale", tr("What of the coefficients is drawn and listed"));
    m_shares = plainBox(tr("Share of the l1 penalty"), "pathShare", this);
    head->addWidget(m_shares);
    head->addStretch(1);
    m_halvesButton =
        link(tr("choose by halves"), "pathHalves",
             tr("Half of the rows chooses terms again and again: which of them stay, and what can be said of "
                "them after the choice"));
    m_simpler = link(tr("take the simpler one"), "pathSimpler");
    m_smallest = link(tr("take the smallest error"), "pathSmallest");
    layout->addLayout(head);
    m_stack = new QStackedWidget(this);
    m_picture = new PathPicture(m_stack);
    m_terms = new GridView(tr("Columns of the path"), m_stack);
    m_terms->setObjectName("pathColumns");
    m_terms->setModel(&m_model);
    m_stack->addWidget(m_picture);
    m_stack->addWidget(m_terms);
    layout->addWidget(m_stack, 1);
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("pathSaid");
    m_said->setWordWrap(true);
    m_more = plainLabel({}, "hint");
    m_more->setObjectName("pathMore");
    m_more->setWordWrap(true);
    layout->addWidget(m_said);
    layout->addWidget(m_more);
    m_rest = new QTimer(this);
    m_rest->setSingleShot(true);
    m_rest->setInterval(restAfter);
    connect(m_rest, &QTimer::timeout, this, &PathPane::slideNow);
    connect(m_picture, &PathPicture::moved, this, &PathPane::moved);
    connect(m_drawn, &QPushButton::clicked, this, [this] {
        m_session.view()["fit.path"] = "drawn";
        showMode();
    });
    connect(m_listed, &QPushButton::clicked, this, [this] {
        m_session.view()["fit.path"] = "list";
        showMode();
    });
    connect(m_scale, &QPushButton::clicked, this, [this] {
        m_perDeviation = !m_perDeviation;
        showShare();
    });
    connect(m_shares, &QComboBox::activated, this, [this] { showShare(); });
    connect(m_halvesButton, &QPushButton::clicked, this, &PathPane::chooseByHalves);
    connect(m_simpler, &QPushButton::clicked, this, [this] { takeRule(oneStandardErrorRule); });
    connect(m_smallest, &QPushButton::clicked, this, [this] { takeRule(smallestErrorRule); });
    showMode();
}

QString PathPane::unit() const {
    return m_session.unit(m_session.recipe().response);
}

Recipe PathPane::soughtOf(Recipe recipe) {
    recipe.estimator.fields["penalty"] = std::string(smallestErrorRule);
    return recipe;
}

bool PathPane::isOfShown() const {
    if (!m_search || m_session.prepared() != m_prepared) return false;
    Recipe shown = soughtOf(m_session.recipe()), own = m_recipe;
    // A share that the path followed is one of its own.
    const auto* share = std::get_if<double>(&shown.estimator.get(std::string_view("l1_share")));
    const auto followed = sharesOf(*m_search);
    if (share && std::find(followed.begin(), followed.end(), *share) != followed.end()) {
        shown.estimator.fields.erase("l1_share");
        own.estimator.fields.erase("l1_share");
    }
    return sameModel(shown, own);
}

void PathPane::refresh() {
    const auto& evidence = m_session.evidence();
    const LinearModel* model = evidence ? evidence->study->linear() : nullptr;
    if (!model || !model->penalised || !m_session.prepared()) return;
    if (!isOfShown()) {
        follow();
        return;
    }
    // The share and the penalty of the fit.
    const auto shares = sharesOf(*m_search);
    const auto at = std::find(shares.begin(), shares.end(), model->penalised->l1Share);
    if (at != shares.end() && m_shares->currentIndex() != at - shares.begin()) {
        m_shares->setCurrentIndex(static_cast<int>(at - shares.begin()));
        showShare();
    }
    if (!m_moving && m_view) showPlace(m_view->nearest(model->penalised->penalty));
}

void PathPane::follow() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    const Recipe recipe = soughtOf(m_session.recipe());
    if (m_following && m_session.pathJobs().busy() && prepared == m_prepared && sameModel(recipe, m_recipe))
        return;
    m_prepared = prepared;
    m_recipe = recipe;
    m_search.reset();
    m_view.reset();
    m_halves.reset();
    m_halvesSaid.clear();
    m_following = true;
    m_model.setContent({});
    m_picture->clear(tr("Following the path of penalties…"));
    m_said->setText({});
    m_more->setText({});
    m_session.pathJobs().start(
        tr("Path of penalties"),
        [this, evidence, prepared, recipe](Progress& progress) -> Jobs::Finish {
            try {
                auto search = penaltyPath(recipe, *prepared, *evidence->study, {}, progress, true);
                return [this, search, prepared] {
                    if (m_prepared == prepared) take(search);
                };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] { m_picture->clear(why); };
            }
        },
        [this](bool stopped) {
            if (!stopped) return;
            m_following = false;
            m_picture->clear(tr("The path was stopped. Choose the fit again to follow it."));
        });
}

void PathPane::take(std::shared_ptr<const PenaltySearch> search) {
    m_following = false;
    m_search = std::move(search);
    m_shares->clear();
    for (const double share : sharesOf(*m_search))
        m_shares->addItem(tr("l1 share %1").arg(qs(shortText(share))));
    m_shares->setVisible(m_shares->count() > 1);
    const auto& evidence = m_session.evidence();
    const LinearModel* model = evidence ? evidence->study->linear() : nullptr;
    if (model && model->penalised) {
        const auto shares = sharesOf(*m_search);
        const auto at = std::find(shares.begin(), shares.end(), model->penalised->l1Share);
        if (at != shares.end()) m_shares->setCurrentIndex(static_cast<int>(at - shares.begin()));
    }
    showShare();
    refresh();
}

void PathPane::showShare() {
    m_scale->setText(m_perDeviation ? tr("per standard deviation") : tr("natural units"));
    if (!m_search) return;
    const auto shares = sharesOf(*m_search);
    const auto index =
        static_cast<std::size_t>(std::clamp(m_shares->currentIndex(), 0, m_shares->count() - 1));
    const double penalty = m_view ? m_view->places[m_picture->place()].penalty : 0;
    m_view = std::make_shared<const PathView>(pathView(*m_search, shares[index]));
    const Recipe& recipe = m_session.recipe();
    const QString fitted = recipe.logResponse ? tr("ln(%1)").arg(qs(recipe.response))
                           : unit().isEmpty() ? qs(recipe.response)
                                              : unit();
    m_picture->show(m_view, qs(recipe.response), unit(), fitted, m_perDeviation);
    const bool judged = m_view->smallest < m_view->places.size();
    m_smallest->setEnabled(judged);
    m_simpler->setEnabled(judged);
    if (judged)
        m_simpler->setToolTip(
            tr("The strongest penalty whose error lies within one standard error of the smallest"));
    showPlace(m_view->nearest(penalty > 0 ? penalty : m_view->places.front().penalty));
}

void PathPane::showPlace(std::size_t place) {
    m_picture->setPlace(place);
    m_said->setText(qs(placeSentence(*m_view, place, ss(unit()))));
    QString more = qs(simplerSentence(*m_view, ss(unit())));
    if (!m_halvesSaid.isEmpty()) more += (more.isEmpty() ? "" : " ") + m_halvesSaid;
    m_more->setText(more);
    m_more->setVisible(!more.isEmpty());
    m_model.setContent(pathGrid(m_view, place, m_halves, m_session.recipe(), m_perDeviation));
    if (m_terms->isVisible()) m_terms->fitColumns(240);
}

void PathPane::moved(std::size_t place, bool rests) {
    if (!m_view) return;
    m_moving = !rests;
    showPlace(place);
    m_rest->stop();
    if (rests) {
        slideNow();
        m_session.endSlide();
    } else {
        m_rest->start();
    }
}

void PathPane::slideNow() {
    const double penalty = m_view->places[m_picture->place()].penalty;
    const auto& evidence = m_session.evidence();
    const LinearModel* model = evidence ? evidence->study->linear() : nullptr;
    if (!model || !model->penalised) return;
    if (!m_session.editing() && model->penalised->penalty == penalty &&
        model->penalised->l1Share == m_view->l1Share)
        return;
    Recipe recipe = m_session.draft();
    if (recipe.estimator.kind != "penalised") return;
    recipe.estimator.fields["penalty"] = penalty;
    recipe.estimator.fields["l1_share"] = m_view->l1Share;
    m_session.slide(recipe);
}

void PathPane::takeRule(const char* rule) {
    Recipe recipe = m_session.recipe();
    recipe.estimator.fields["penalty"] = std::string(rule);
    if (m_view) recipe.estimator.fields["l1_share"] = m_view->l1Share;
    m_session.changeFrom(m_session.recipe(), recipe);
}

void PathPane::chooseByHalves() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    const LinearModel* model = evidence ? evidence->study->linear() : nullptr;
    if (!model || !model->penalised || !prepared || m_session.pathJobs().busy()) return;
    if (model->penalised->l1Share == 0) {
        m_halvesSaid = tr("Ridge keeps every term in every half.");
        if (m_view) showPlace(m_picture->place());
        return;
    }
    m_halvesSaid = tr("StabilitySelection of the rows choose…");
    if (m_view) showPlace(m_picture->place());
    m_session.pathJobs().start(
        tr("Choosing by halves"),
        [this, evidence, prepared, recipe = m_session.recipe()](Progress& progress) -> Jobs::Finish {
            try {
                auto halves = std::make_shared<const StabilitySelection>(
                    halvesOf(recipe, *prepared, *evidence->study, {}, {}, progress));
                return [this, halves, prepared] {
                    if (m_prepared != prepared || !m_view) return;
                    m_halves = halves;
                    m_halvesSaid = qs(halves->says) + ".";
                    m_session.view()["fit.path"] = "list";
                    showMode();
                    showPlace(m_picture->place());
                };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] {
                    m_halvesSaid = why;
                    if (m_view) showPlace(m_picture->place());
                };
            }
        });
}

void PathPane::showMode() {
    const auto wanted = m_session.view().find("fit.path");
    const bool list = wanted != m_session.view().end() && wanted->second == "list";
    m_stack->setCurrentIndex(list ? 1 : 0);
    for (auto [button, on] : {std::pair{m_drawn, !list}, std::pair{m_listed, list}}) {
        button->setChecked(on);
        button->setStyleSheet(on ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;" : "");
    }
    if (list) m_terms->fitColumns(240);
}

} // namespace oxgoad

#include "app/compare/compare_station.h"

#include "app/parts.h"
#include "base/error.h"
#include "base/text.h"
#include "recipe/recipe_edits.h"
#include "study/compare.h"
#include "study/say.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t rowsListed = 200;

} // namespace

CompareStation::CompareStation(Session& session, QWidget* parent) : Station(session, "compare", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 6);
    auto* head = new QWidget(this);
    auto* flow = new FlowLayout(head, 8, 4);
    static constexpr std::array names{"leftFit", "rightFit", "thirdFit", "fourthFit", "fifthFit", "sixthFit"};
    static const std::array titles{QT_TR_NOOP("First fit"), QT_TR_NOOP("Second fit"),
                                   QT_TR_NOOP("Third fit"), QT_TR_NOOP("Fourth fit"),
                                   QT_TR_NOOP("Fifth fit"), QT_TR_NOOP("Sixth fit")};
    for (std::size_t i = 0; i < mostFits; ++i) {
        m_boxes[i] = plainBox(tr(titles[i]), names[i], head);
        m_boxes[i]->setMaximumWidth(220);
        flow->addWidget(m_boxes[i]);
        if (i == 0) flow->addWidget(plainLabel(tr("beside")));
        m_boxes[i]->setVisible(i < 2);
    }
    m_more = linkButton(tr("+ another fit"), head);
    m_more->setObjectName("anotherFit");
    flow->addWidget(m_more);
    m_everything = linkButton(tr("all pinned fits"), head);
    m_everything->setObjectName("pinnedFits");
    m_everything->setToolTip(tr("Compares the fits that are pinned on the trail, the last six of them"));
    flow->addWidget(m_everything);
    m_refit = linkButton({}, head);
    m_refit->setObjectName("refit");
    m_refit->setToolTip(
        tr("Fits the same model to learning and held-out rows together, once it is chosen; test "
           "rows stay the same ones"));
    flow->addWidget(m_refit);
    connect(m_refit, &QPushButton::clicked, this, [this] {
        Recipe recipe = m_session.recipe();
        if (!recipe.setAside) return;
        recipe.setAside->heldOutLearn = !recipe.setAside->heldOutLearn;
        m_session.changeFrom(m_session.recipe(), recipe);
    });
    layout->addWidget(head);
    m_sentence = plainLabel({});
    m_sentence->setObjectName("comparison");
    m_sentence->setWordWrap(true);
    layout->addWidget(m_sentence);
    auto* panes = new QHBoxLayout;
    for (const auto& [key, text] :
         {std::pair{"scores", tr("scores")}, std::pair{"differences", tr("differences")},
          std::pair{"common", tr("coefficients on one scale")}, std::pair{"rows", tr("where they differ")}}) {
        auto* button = linkButton(text, this);
        button->setCheckable(true);
        panes->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, key = std::string(key)] { showPane(key); });
        m_panes.emplace_back(key, button);
    }
    panes->addStretch(1);
    layout->addLayout(panes);
    m_splitter = new QSplitter(Qt::Horizontal, this);
    m_splitter->setHandleWidth(1);
    m_table = new GridView(tr("Fits side by side"), m_splitter);
    m_table->setObjectName("compare");
    m_table->setModel(&m_model);
    m_plot = new PlotFrame(tr("Predictions of both fits"), m_splitter);
    m_plot->setObjectName("comparePlot");
    m_splitter->addWidget(m_table);
    m_splitter->addWidget(m_plot);
    m_splitter->setSizes({640, 320});
    layout->addWidget(m_splitter, 1);
    for (QComboBox* box : m_boxes)
        connect(box, &QComboBox::currentTextChanged, this, [this] { draw(); });
    connect(m_more, &QPushButton::clicked, this, [this] {
        if (m_shownBoxes >= mostFits) return;
        ++m_shownBoxes;
        refresh();
        m_boxes[m_shownBoxes - 1]->setFocus();
    });
    connect(m_everything, &QPushButton::clicked, this, [this] {
        std::vector<QString> pinned;
        for (const TrailFit& fit : m_session.trail().fits())
            if (fit.pinned) pinned.push_back(qs(fit.title()));
        if (pinned.size() < 2) {
            m_sentence->setText(tr("Fewer than two fits are pinned. Pin one on the trail with P."));
            return;
        }
        if (pinned.size() > mostFits) pinned.erase(pinned.begin(), pinned.end() - mostFits);
        m_shownBoxes = pinned.size();
        refresh();
        for (std::size_t i = 0; i < pinned.size(); ++i)
            m_boxes[i]->setCurrentText(pinned[i]);
    });
    connect(m_table, &GridView::opened, this, [this](const QModelIndex& index) {
        const QVariant row = m_model.index(index.row(), 0).data(DataRowRole);
        if (row.isValid()) m_session.openRow(row.toULongLong());
    });
    connect(m_table, &GridView::lineChosen, this, [this](const QModelIndex& index) {
        const QVariant row = m_model.index(index.row(), 0).data(DataRowRole);
        if (row.isValid()) m_session.selectRow(row.toULongLong());
    });
    connect(&session, &Session::evidenceReady, this, [this] {
        if (isVisible()) draw();
    });
    connect(&session, &Session::trailChanged, this, [this] { refreshLater(); });
    link(*m_plot);
    showPane("scores");
}

void CompareStation::refresh() {
    QStringList fits;
    QString current, parent;
    const TrailFit* chosenFit = m_session.trail().find(m_session.current());
    for (const TrailFit& fit : m_session.trail().fits()) {
        if (fit.pruned && fit.number != m_session.current()) continue;
        fits << qs(fit.title());
        if (chosenFit && fit.number == chosenFit->number) current = fits.back();
        if (chosenFit && fit.number == chosenFit->parent) parent = fits.back();
    }
    if (parent.isEmpty()) parent = fits.value(0);
    for (std::size_t i = 0; i < mostFits; ++i) {
        QStringList own = fits;
        if (i >= 2) own.prepend(tr("none"));
        fillBox(*m_boxes[i], own, i == 0 ? parent : i == 1 ? current : tr("none"));
        m_boxes[i]->setVisible(i < m_shownBoxes);
    }
    m_more->setVisible(m_shownBoxes < mostFits && fits.size() > 2);
    m_everything->setVisible(std::count_if(m_session.trail().fits().begin(), m_session.trail().fits().end(),
                                           [](const TrailFit& fit) { return fit.pinned; }) > 1);
    const auto& aside = m_session.recipe().setAside;
    m_refit->setText(aside && aside->heldOutLearn ? tr("hold the rows out again")
                                                  : tr("learn from the held-out rows too"));
    m_refit->setVisible(aside && m_session.evidence() &&
                        (aside->heldOutLearn || m_session.evidence()->rowsHeldOut > 0));
    draw();
}

std::vector<int> CompareStation::chosen() const {
    std::vector<int> numbers;
    for (std::size_t i = 0; i < m_shownBoxes; ++i) {
        const int number = m_boxes[i]->currentText().section(' ', 0, 0).toInt();
        if (number == 0) continue;
        if (i >= 2 && std::find(numbers.begin(), numbers.end(), number) != numbers.end()) continue;
        numbers.push_back(number);
    }
    return numbers;
}

void CompareStation::draw() {
    const std::vector<int> numbers = chosen();
    if (numbers.size() < 2) {
        m_compared.reset();
        m_of.clear();
        m_model.setContent({});
        m_sentence->setText(tr("Two fits can be laid side by side once the trail has them."));
        m_plot->clear(tr("No fits yet."));
        return;
    }
    std::vector<std::shared_ptr<const Evidence>> evidence;
    for (const int number : numbers) {
        evidence.push_back(m_session.evidenceOf(number));
        if (!evidence.back()) { // one at a time: the answer comes with evidenceReady
            m_sentence->setText(tr("Working out fit %1…").arg(number));
            return;
        }
    }
    if (numbers == m_numbers && evidence == m_of) {
        if (m_compared) take(m_compared);
        return;
    }
    compare(numbers, evidence);
}

void CompareStation::compare(const std::vector<int>& numbers,
                             const std::vector<std::shared_ptr<const Evidence>>& evidence) {
    m_numbers = numbers;
    m_of = evidence;
    m_compared.reset();
    std::vector<Recipe> recipes;
    for (const int number : numbers)
        recipes.push_back(m_session.trail().find(number)->recipe);
    m_sentence->setText(tr("Comparing…"));
    m_session.compareJobs().start(
        tr("Comparing"),
        [this, numbers, evidence, recipes, rows = m_session.rows(),
         prepared = m_session.prepared()](Progress& progress) -> Jobs::Finish {
            auto out = std::make_shared<ComparedFits>();
            out->numbers = numbers;
            // Two that are judged otherwise are compared by what both have.
            out->evidence = numbers.size() == 2
                                ? evidence
                                : judgedAlike(evidence, recipes, *rows, prepared.get(), {}, progress);
            std::vector<Compared> fits;
            for (std::size_t i = 0; i < numbers.size(); ++i)
                fits.push_back({*out->evidence[i], recipes[i], "fit " + std::to_string(numbers[i])});
            out->pairs = comparePairs(fits, recipes[0].level, progress);
            for (const PairComparison& pair : out->pairs)
                out->sentences.push_back(pair.measure == Measure::rmse
                                             ? comparisonSentence(fits[pair.first], fits[pair.second])
                                             : std::string());
            out->differing = differMost(fits, rowsListed);
            out->coefficients = commonCoefficients(fits);
            return [this, out, evidence] {
                if (evidence == m_of) take(out);
            };
        },
        [this](bool) {
            m_of.clear();
            m_sentence->setText(tr("The fits were not compared. Choose one of them again."));
        });
}

QString CompareStation::sentence(const ComparedFits& compared) const {
    if (compared.numbers.size() == 2) {
        const int left = compared.numbers[0], right = compared.numbers[1];
        if (left == right) return tr("The same fit on both sides.");
        const TrailFit* first = m_session.trail().find(left);
        const TrailFit* second = m_session.trail().find(right);
        if (!first || !second) return {};
        const Evidence &a = *compared.evidence[0], &b = *compared.evidence[1];
        QString text = qs(comparisonSentence({a, first->recipe, "fit " + std::to_string(left)},
                                             {b, second->recipe, "fit " + std::to_string(right)}));
        const Comparison both = compareHeldOut(a, b);
        if (both.first.rows > 0 && (a.rowsHeldOut != both.first.rows || b.rowsHeldOut != both.first.rows))
            text += tr(" Rows that only one of them holds out do not count.");
        for (const PairComparison& pair : compared.pairs)
            if (pair.measure == Measure::rmse && pair.folds > 0) {
                QString says = qs(pair.says);
                says[0] = says[0].toUpper();
                text += " " + says + ".";
            }
        return text;
    }
    QStringList lines;
    for (const PairComparison& pair : compared.pairs)
        if (pair.measure == Measure::rmse && pair.first == 0) {
            QString says = qs(pair.says);
            says[0] = says[0].toUpper();
            lines << says + ".";
        }
    if (std::any_of(compared.evidence.begin(), compared.evidence.end(),
                    [&](const auto& e) { return e->logResponse != compared.evidence[0]->logResponse; }))
        lines << tr("Fits in logarithms are compared in the response's own unit, carried back.");
    return lines.join("\n");
}

void CompareStation::take(std::shared_ptr<const ComparedFits> compared) {
    m_compared = std::move(compared);
    m_sentence->setText(sentence(*m_compared));
    showPane(m_pane);
}

void CompareStation::showPane(const std::string& pane) {
    m_pane = pane;
    for (const auto& [key, button] : m_panes) {
        button->setChecked(key == pane);
        button->setStyleSheet(key == pane ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;"
                                          : "");
    }
    // Predictions are drawn of two fits, one against the other.
    const bool two = !m_compared || m_compared->numbers.size() == 2;
    m_plot->setVisible((pane == "scores" && two) || pane == "differences");
    if (!m_compared) return;
    const int lines = m_model.rowCount(), columns = m_model.columnCount();
    if (pane == "differences") {
        m_model.setContent(pairsGrid(m_session, m_compared));
        showDifferences();
    } else if (pane == "common") {
        m_model.setContent(commonGrid(m_session, m_compared));
    } else if (pane == "rows") {
        m_model.setContent(differingGrid(m_session, m_compared));
    } else {
        std::vector<FitColumn> fits;
        for (std::size_t i = 0; i < m_compared->numbers.size(); ++i)
            fits.push_back({m_compared->numbers[i], m_compared->evidence[i].get()});
        m_model.setContent(compareGrid(m_session, fits));
        if (two) showPredictions();
    }
    if (lines != m_model.rowCount() || columns != m_model.columnCount())
        m_table->fitColumns(m_plot->isHidden() ? 400 : 240);
}

void CompareStation::showPredictions() {
    const auto a = m_compared->evidence[0], b = m_compared->evidence[1];
    const QString left = QString::number(m_compared->numbers[0]),
                  right = QString::number(m_compared->numbers[1]);
    PlotFrame::Content content;
    const QString axisUnit =
        m_session.unit(b->response).isEmpty() ? QString() : ", " + m_session.unit(b->response);
    content.xTitle = tr("predicted by fit %1").arg(left) + axisUnit;
    content.yTitle = tr("predicted by fit %1").arg(right) + axisUnit;
    content.marks = marksByPart([&a](std::size_t i) { return a->rows.fitted[i]; },
                                [&b](std::size_t i) { return b->rows.fitted[i]; });
    double low = 1e300, high = -1e300;
    for (const auto& marks : content.marks)
        for (const double v : marks.x) {
            low = std::min(low, v);
            high = std::max(high, v);
        }
    if (low <= high)
        content.lines.push_back(
            {tr("both the same"), {low, high}, {low, high}, theme::quiet, Qt::DashLine, {}, 1.2});
    content.summary = tr("Predictions of fit %1 against those of fit %2").arg(right, left);
    m_plot->setDescription(rowDescription());
    m_plot->show(std::move(content));
    showSelectionIn(*m_plot);
}

void CompareStation::showDifferences() {
    PlotFrame::Content content;
    const QString unit = m_session.unit(m_compared->evidence[0]->response);
    content.yTitle = tr("RMSE less that of fit %1").arg(m_compared->numbers[0]) +
                     (unit.isEmpty() ? QString() : ", " + unit);
    content.zeroLine = true;
    PlotFrame::Marks folds, means;
    folds.name = tr("a fold");
    folds.mark = theme::Mark::heldOut;
    means.name = tr("mean, with its interval");
    means.mark = theme::Mark::diamond;
    means.colour = theme::ink;
    bool byFolds = false;
    for (const PairComparison& pair : m_compared->pairs) {
        if (pair.first != 0 || pair.measure != Measure::rmse || std::isnan(pair.difference)) continue;
        const auto x = static_cast<double>(content.xLevels.size());
        content.xLevels << tr("fit %1").arg(m_compared->numbers[pair.second]);
        for (std::size_t f = 0; f < pair.byFold.size(); ++f) {
            byFolds = true;
            folds.x.push_back(x - 0.18);
            folds.y.push_back(pair.byFold[f]);
        }
        means.x.push_back(x);
        means.y.push_back(pair.difference);
        PlotFrame::Line interval;
        interval.x = {x, x};
        interval.y = {pair.lower, pair.upper};
        interval.colour = theme::ink;
        interval.width = 2.4;
        content.lines.push_back(std::move(interval));
        content.summary += qs(pair.says) + ". ";
    }
    if (content.xLevels.isEmpty()) {
        m_plot->clear(tr("These fits have no rows or folds in common that judge them."));
        return;
    }
    content.xTitle = byFolds ? tr("below 0: better than fit %1 in that fold").arg(m_compared->numbers[0])
                             : tr("below 0: better than fit %1").arg(m_compared->numbers[0]);
    if (byFolds) content.marks.push_back(std::move(folds));
    content.marks.push_back(std::move(means));
    m_plot->setDescription({});
    m_plot->show(std::move(content));
}

} // namespace oxgoad

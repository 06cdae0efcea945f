#include "app/fit/search_pane.h"

#include "app/station.h"
#include "base/error.h"
#include "base/text.h"
#include "study/search_space.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

namespace {

enum Budget { minutesOfSearch, fitsOfSearch, candidatesOfSearch };

} // namespace

SearchPane::SearchPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(4);
    auto* sentence = new QWidget(this);
    auto* line = new FlowLayout(sentence, 6, 4);
    const auto word = [&](const QString& text) { line->addWidget(plainLabel(text, "hint")); };
    word(tr("Search for"));
    m_amount = new WholeBox(1, 100000, this);
    m_amount->setAccessibleName(tr("How long to search"));
    m_amount->setObjectName("searchAmount");
    m_amount->setFixedWidth(54);
    m_amount->setValue(5);
    line->addWidget(m_amount);
    m_of = plainBox(tr("What ends the search"), "searchBudget", this);
    m_of->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    m_of->addItem(tr("minutes"));
    m_of->addItem(tr("fits"));
    m_of->addItem(tr("models without a better one"));
    line->addWidget(m_of);
    word(tr("among"));
    m_kinds = plainBox(tr("Kinds that are tried"), "searchKinds", this);
    m_kinds->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    m_kinds->addItem(tr("all kinds"));
    for (const SearchFamily& family : searchFamilies()) {
        QStringList kinds;
        for (const std::string& kind : family.kinds)
            kinds << qs(kind);
        m_kinds->addItem(qs(family.name), kinds);
    }
    for (const SearchSpace& space : searchSpaces())
        m_kinds->addItem(qs(findModelKind(space.kind)->title), QStringList{qs(space.kind)});
    line->addWidget(m_kinds);
    m_terms = new QCheckBox(tr("curves and products"), this);
    m_terms->setChecked(true);
    m_logs = new QCheckBox(tr("logarithms"), this);
    m_logs->setChecked(true);
    line->addWidget(m_terms);
    line->addWidget(m_logs);
    word(tr("seed"));
    m_seed = new WholeBox(0, 999999, this);
    m_seed->setAccessibleName(tr("Seed of the search"));
    m_seed->setFixedWidth(64);
    m_seed->setValue(1);
    line->addWidget(m_seed);
    const auto link = [&](const QString& text, const char* name, const QString& tip) {
        auto* button = linkButton(text, this);
        button->setObjectName(name);
        button->setToolTip(tip);
        line->addWidget(button);
        return button;
    };
    m_search = link(tr("search"), "beginSearch", tr("Tries kinds, settings and terms on the same folds"));
    m_takeBest = link(tr("take the best"), "takeBest", tr("The model of the best becomes the recipe's"));
    m_takeSimpler = link(tr("take the simpler"), "takeSimpler", tr("As good but for one standard error"));
    m_toTrail = link(tr("all judged onto the trail"), "searchToTrail",
                     tr("Those judged by all folds, the best last; one step back takes them away"));
    layout->addWidget(sentence);
    auto* parts = new QSplitter(Qt::Horizontal, this);
    parts->setHandleWidth(1);
    m_grid = new GridView(tr("Models tried"), parts);
    m_grid->setObjectName("tried");
    m_grid->setModel(&m_model);
    auto* scroll = new QScrollArea(parts);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    auto* sheet = new QWidget(scroll);
    sheet->setObjectName("sheet");
    sheet->setAttribute(Qt::WA_StyledBackground);
    auto* sheetLayout = new QVBoxLayout(sheet);
    m_said = plainLabel({});
    m_said->setObjectName("searchSaid");
    m_said->setWordWrap(true);
    m_said->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    sheetLayout->addWidget(m_said);
    sheetLayout->addStretch(1);
    scroll->setWidget(sheet);
    parts->addWidget(m_grid);
    parts->addWidget(scroll);
    parts->setSizes({620, 330});
    layout->addWidget(parts, 1);
    connect(m_search, &QPushButton::clicked, this, &SearchPane::begin);
    connect(m_takeBest, &QPushButton::clicked, this, [this] { take(m_found->best); });
    connect(m_takeSimpler, &QPushButton::clicked, this, [this] {
        if (m_found->simpler) take(*m_found->simpler);
    });
    connect(m_toTrail, &QPushButton::clicked, this, [this] {
        std::vector<Recipe> path;
        for (std::size_t k = m_order.size(); k-- > 0;)
            if (m_tried[m_order[k]].whole) path.push_back(withTried(m_base, m_tried[m_order[k]]));
        m_session.takePath(m_base, path);
    });
    connect(m_grid, &GridView::opened, this, [this](const QModelIndex& index) {
        const auto row = static_cast<std::size_t>(index.row());
        if (m_found && row < m_order.size()) take(m_order[row]);
    });
    connect(&session, &Session::rowsChanged, this, &SearchPane::forget);
    connect(m_of, &QComboBox::currentIndexChanged, this, [this](int of) {
        m_amount->setValue(of == minutesOfSearch ? 5 : of == fitsOfSearch ? 200 : 30);
    });
    forget();
}

void SearchPane::forget() {
    m_found.reset();
    m_tried.clear();
    showTried();
    for (auto* button : {m_takeBest, m_takeSimpler, m_toTrail})
        button->hide();
    m_said->setText(
        tr("Kinds of model, their settings and forms of the terms are tried on the same folds of the "
           "learning rows; what is hopeless ends early. At the end it says which won, by how much, how "
           "sure that is, and what is simpler and nearly as good. Rows held out are not touched."));
}

SearchPlan SearchPane::plan() const {
    SearchPlan plan;
    const auto amount = static_cast<std::size_t>(m_amount->value());
    switch (m_of->currentIndex()) {
    case minutesOfSearch:
        plan.minutes = static_cast<double>(amount);
        break;
    case fitsOfSearch:
        plan.fits = amount;
        break;
    default:
        plan.patience = amount;
        break;
    }
    for (const QString& kind : m_kinds->currentData().toStringList())
        plan.kinds.push_back(ss(kind));
    plan.terms = m_terms->isChecked();
    plan.logs = m_logs->isChecked();
    plan.seed = static_cast<std::uint64_t>(m_seed->value());
    return plan;
}

void SearchPane::begin() {
    const auto prepared = m_session.prepared();
    if (!prepared) return;
    forget();
    m_base = m_session.recipe();
    m_said->setText(tr("Searching… Stop ends it with what there is."));
    const std::string file = m_base.rows.file;
    m_session.chooseJobs().start(
        tr("Searching"),
        [this, prepared, plan = plan(), recipe = m_base, file](Progress& progress) -> Jobs::Finish {
            const auto soFar = [&](const Tried& tried) {
                auto copy = std::make_shared<Tried>(tried);
                copy->outOfFold.clear();
                QMetaObject::invokeMethod(this, [this, copy] {
                    if (!m_session.chooseJobs().busy() || m_found) return;
                    m_tried.push_back(std::move(*copy));
                    showTried();
                });
            };
            try {
                auto found = std::make_shared<const SearchFound>(
                    search(recipe, *prepared, file, plan, {}, progress, soFar));
                return [this, found] { show(found); };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] { m_said->setText(why); };
            }
        },
        [this](bool stopped) {
            if (stopped) m_said->setText(tr("Stopped before anything was judged by all folds."));
        });
}

void SearchPane::showTried() {
    m_order = bestFirst(m_tried);
    struct Line {
        QString says, rmse, folds, seconds, ended;
        bool whole;
    };
    auto lines = std::make_shared<std::vector<Line>>();
    for (const std::size_t place : m_order) {
        const Tried& tried = m_tried[place];
        lines->push_back({qs(tried.says),
                          std::isnan(tried.mse) ? tr("none") : qs(readableText(tried.rmse(), 4)),
                          QString::number(tried.folds), QString::number(tried.seconds, 'f', 1),
                          tried.whole             ? tr("judged by all")
                          : std::isnan(tried.mse) ? qs(tried.ended)
                                                  : tr("ended early"),
                          tried.whole});
    }
    GridModel::Content content;
    content.rows = static_cast<int>(lines->size());
    const auto at = [lines](int row) -> const Line& { return (*lines)[static_cast<std::size_t>(row)]; };
    const QString unit = m_session.unit(m_base.response).section(' ', 0, 0);
    content.columns = {{tr("model"), false, [at](int r) { return at(r).says; }, {}, {}},
                       {unit.isEmpty() ? tr("RMSE") : tr("RMSE (%1)").arg(unit),
                        true,
                        [at](int r) { return at(r).rmse; },
                        {},
                        tr("Out of fold, over the folds it was judged by")},
                       {tr("folds"), true, [at](int r) { return at(r).folds; }, {}, {}},
                       {tr("seconds"), true, [at](int r) { return at(r).seconds; }, {}, {}},
                       {tr("how it ended"), false, [at](int r) { return at(r).ended; }, {}, {}}};
    content.extra = [at](int row, int, int role) -> QVariant {
        return role == ToneRole && !at(row).whole ? QVariant("quiet") : QVariant();
    };
    m_model.setContent(std::move(content));
    m_grid->fitColumns(360);
}

void SearchPane::show(std::shared_ptr<const SearchFound> found) {
    m_found = std::move(found);
    m_tried = m_found->tried;
    showTried();
    m_said->setText(qs(m_found->says));
    m_takeBest->show();
    m_takeSimpler->setVisible(m_found->simpler.has_value());
    m_toTrail->show();
}

void SearchPane::take(std::size_t place) {
    m_session.changeFrom(m_base, withTried(m_base, m_tried[place]));
}

} // namespace oxgoad

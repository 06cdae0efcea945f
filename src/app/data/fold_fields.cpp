#include "app/data/fold_fields.h"

#include "base/text.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QFormLayout>
#include <QLabel>

#include <algorithm>

namespace oxgoad {

namespace {

constexpr int noFolds = -1;
constexpr int mostSeed = 1000000000;

} // namespace

FoldFields::FoldFields(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    m_form = new QFormLayout(this);
    m_form->setContentsMargins(0, 0, 0, 0);
    const auto spin = [this](const QString& name, const QString& title, int low, int high, int value) {
        auto* box = new WholeBox(low, high, this);
        box->setObjectName(name);
        box->setValue(value);
        m_form->addRow(title, box);
        connect(box, &QDoubleSpinBox::valueChanged, this, &FoldFields::changed);
        return box;
    };
    m_kind = new QComboBox(this);
    m_kind->setObjectName("foldKind");
    m_kind->addItem(tr("no folds"), noFolds);
    m_kind->addItem(tr("folds at random"), static_cast<int>(FoldKind::kFolds));
    m_kind->addItem(tr("folds in proportion to a column"), static_cast<int>(FoldKind::inProportion));
    m_kind->addItem(tr("folds of whole groups"), static_cast<int>(FoldKind::groups));
    m_kind->addItem(tr("folds as a column says"), static_cast<int>(FoldKind::column));
    m_kind->addItem(tr("periods to come, origin by origin"), static_cast<int>(FoldKind::rollingOrigin));
    m_kind->addItem(tr("leaving out one row at a time"), static_cast<int>(FoldKind::leaveOneOut));
    m_kind->addItem(tr("bootstrap draws"), static_cast<int>(FoldKind::bootstrap));
    m_form->addRow(tr("Judge by"), m_kind);
    m_column = new QComboBox(this);
    m_column->setObjectName("foldColumn");
    m_form->addRow(tr("Column"), m_column);
    const auto& now = session.recipe().judge;
    const FoldPlan plan = now.value_or(FoldPlan{});
    m_folds = spin("foldCount", tr("Folds"), 1, 1000, plan.folds);
    m_horizon = spin("foldHorizon", tr("Periods ahead"), 1, 10000, plan.horizon);
    m_gap = spin("foldGap", tr("Periods between"), 0, 10000, plan.gap);
    m_bands = spin("foldBands", tr("Bands of a number"), 2, 100, plan.bands);
    m_draws = spin("foldDraws", tr("Draws"), 2, 100000, plan.draws);
    m_repeats = spin("foldRepeats", tr("Times dealt"), 1, 1000, plan.repeats);
    m_seed = spin("foldSeed", tr("Seed"), 0, mostSeed,
                  static_cast<int>(std::min<std::uint64_t>(plan.seed, mostSeed)));
    m_kind->setCurrentIndex(m_kind->findData(now ? static_cast<int>(now->kind) : noFolds));
    connect(m_kind, &QComboBox::currentIndexChanged, this, [this] {
        if (kind() == FoldKind::rollingOrigin && m_folds->value() == 10) m_folds->setValue(6);
        if (!none() && kind() != FoldKind::rollingOrigin && m_folds->value() < 2) m_folds->setValue(10);
        fillColumns();
        showFields();
        emit changed();
    });
    connect(m_column, &QComboBox::currentIndexChanged, this, &FoldFields::changed);
    fillColumns();
    showFields();
}

bool FoldFields::none() const {
    return m_kind->currentData().toInt() == noFolds;
}

FoldKind FoldFields::kind() const {
    return none() ? FoldKind::kFolds : static_cast<FoldKind>(m_kind->currentData().toInt());
}

void FoldFields::fillColumns() {
    const QSignalBlocker blocker(m_column);
    m_column->clear();
    const bool time = kind() == FoldKind::rollingOrigin;
    const bool groups = kind() == FoldKind::groups;
    const auto& now = m_session.recipe().judge;
    QString first;
    for (const Column& column : m_session.table().columns()) {
        const bool date = column.kind() == ColumnKind::date, number = column.kind() == ColumnKind::number;
        const bool fits =
            time     ? date || number
            : groups ? column.kind() != ColumnKind::number || column.name() != m_session.recipe().response
                     : column.kind() != ColumnKind::text && !date;
        if (!fits || column.name() == m_session.recipe().response) continue;
        m_column->addItem(qs(column.name()));
        const Role role = roleOf(m_session.recipe(), column.name());
        if (first.isEmpty() &&
            (time ? role == Role::time || date : role == Role::group || column.kind() == ColumnKind::factor))
            first = qs(column.name());
        if (role == (time ? Role::time : Role::group)) first = qs(column.name());
    }
    if (now && now->kind == kind() && !now->column.empty()) first = qs(now->column);
    if (!first.isEmpty()) m_column->setCurrentText(first);
}

void FoldFields::showFields() {
    const auto show = [this](QWidget* field, bool shown) {
        field->setVisible(shown);
        m_form->labelForField(field)->setVisible(shown);
    };
    const FoldPlan plan{.kind = kind()};
    const bool some = !none();
    const bool rolling = some && kind() == FoldKind::rollingOrigin;
    if (auto* label = qobject_cast<QLabel*>(m_form->labelForField(m_folds)))
        label->setText(rolling ? tr("Origins") : tr("Folds"));
    show(m_column, some && plan.goesByColumn());
    show(m_folds, (some && plan.repeatsWell()) || rolling);
    show(m_horizon, rolling);
    show(m_gap, rolling);
    show(m_bands, some && kind() == FoldKind::inProportion);
    show(m_draws, some && kind() == FoldKind::bootstrap);
    show(m_repeats, some && plan.repeatsWell());
    show(m_seed, some && plan.hasSeed());
}

std::optional<FoldPlan> FoldFields::plan() const {
    if (none()) return std::nullopt;
    const auto& before = m_session.recipe().judge;
    FoldPlan plan{.kind = kind()};
    if (plan.goesByColumn()) plan.column = ss(m_column->currentText());
    if (plan.repeatsWell() || plan.kind == FoldKind::rollingOrigin) plan.folds = m_folds->value();
    if (plan.repeatsWell()) plan.repeats = m_repeats->value();
    if (plan.kind == FoldKind::inProportion) plan.bands = m_bands->value();
    if (plan.kind == FoldKind::rollingOrigin) {
        plan.horizon = m_horizon->value();
        plan.gap = m_gap->value();
    }
    if (plan.kind == FoldKind::bootstrap) plan.draws = m_draws->value();
    if (plan.hasSeed()) {
        plan.seed = static_cast<std::uint64_t>(m_seed->value());
        // A seed that the field cannot show is kept while nobody changes it.
        if (before && before->seed > mostSeed && m_seed->value() == mostSeed) plan.seed = before->seed;
    }
    return plan;
}

QString FoldFields::trouble() const {
    const auto wanted = plan();
    if (!wanted) return {};
    if (wanted->goesByColumn() && wanted->column.empty())
        return tr("There is no column that folds could go by.");
    try {
        checkFoldPlan(*wanted);
    } catch (const Error& error) {
        return qs(error.what());
    }
    return {};
}

QString FoldFields::says() const {
    if (none())
        return tr("Folds judge how a model is made: every learning row is predicted by a model that learned "
                  "without it. They are what models are chosen by.");
    switch (kind()) {
    case FoldKind::kFolds:
    case FoldKind::inProportion:
        return tr("Every learning row is predicted by a model that learned without its fold: steps, levels, "
                  "knots and chosen terms anew each time. Folds are what models are chosen by.");
    case FoldKind::groups:
        return tr("No group is learned from and judged in one fold: the error of a group that is new. Use it "
                  "where rows of one group are alike.");
    case FoldKind::column:
        return tr("Rows with one value of the column are a fold.");
    case FoldKind::rollingOrigin:
        return tr("Models of what came before are judged by the periods that follow: the error of a forecast "
                  "ahead.");
    case FoldKind::leaveOneOut:
        return tr("Every learning row is predicted from all the others: little bias, no seed, and more "
                  "spread than ten folds.");
    case FoldKind::bootstrap:
        return tr("Models of rows drawn with replacement are judged by the rows not drawn; the .632+ error "
                  "takes their pessimism off (Efron and Tibshirani 1997).");
    }
    return {};
}

} // namespace oxgoad

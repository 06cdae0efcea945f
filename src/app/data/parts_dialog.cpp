#include "app/data/parts_dialog.h"

#include "app/data/fold_fields.h"
#include "app/parts.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QFrame>
#include <QListWidget>
#include <QPushButton>

#include <cmath>

namespace oxgoad {

namespace {

constexpr int nothing = -1;

QStringList ticked(const QListWidget* list) {
    QStringList texts;
    for (int i = 0; i < list->count(); ++i)
        if (list->item(i)->checkState() == Qt::Checked) texts << list->item(i)->text();
    return texts;
}

std::vector<std::string> asTexts(const QStringList& list) {
    std::vector<std::string> texts;
    for (const QString& text : list)
        texts.push_back(ss(text));
    return texts;
}

} // namespace

PartsDialog::PartsDialog(Session& session, QWidget* parent) : QDialog(parent), m_session(session) {
    setObjectName("rowsDialog");
    setWindowTitle(tr("How the model is judged"));
    m_form = new QFormLayout(this);
    m_folds = new FoldFields(session, this);
    m_foldHint = plainLabel({}, "hint");
    m_foldHint->setWordWrap(true);
    m_foldHint->setMinimumWidth(420);
    m_form->addRow(m_folds);
    m_form->addRow(m_foldHint);
    auto* rule = new QFrame(this);
    rule->setFrameShape(QFrame::HLine);
    rule->setObjectName("rule");
    m_form->addRow(rule);
    connect(m_folds, &FoldFields::changed, this, &PartsDialog::changed);
    const auto named = [this](auto* box, const QString& name) {
        box->setObjectName(name);
        connect(box, &QDoubleSpinBox::valueChanged, this, &PartsDialog::changed);
        return box;
    };
    const auto share = [&](const QString& name) {
        auto* box = named(new NumberBox(this), name);
        box->setDecimals(2);
        box->setRange(0, 90);
        box->setSuffix(" %");
        return box;
    };
    m_kind = new QComboBox(this);
    m_kind->setObjectName("setAsideKind");
    m_kind->addItem(tr("no rows"), nothing);
    m_kind->addItem(tr("at random"), static_cast<int>(SetAsideKind::random));
    m_kind->addItem(tr("at random, in proportion to a column"),
                    static_cast<int>(SetAsideKind::proportionate));
    m_kind->addItem(tr("by whole groups"), static_cast<int>(SetAsideKind::groups));
    m_kind->addItem(tr("the latest periods"), static_cast<int>(SetAsideKind::latest));
    m_kind->addItem(tr("the last rows"), static_cast<int>(SetAsideKind::firstRows));
    m_kind->addItem(tr("as a column says"), static_cast<int>(SetAsideKind::column));
    m_column = new QComboBox(this);
    m_column->setObjectName("setAsideColumn");
    m_share = share("heldOutShare");
    m_test = share("testShare");
    m_seed = named(new WholeBox(0, 1000000000, this), "heldOutSeed");
    m_bands = named(new WholeBox(2, 100, this), "setAsideBands");
    auto values = [this](const QString& name) {
        auto* list = new QListWidget(this);
        list->setObjectName(name);
        list->setMaximumHeight(90);
        connect(list, &QListWidget::itemChanged, this, &PartsDialog::changed);
        return list;
    };
    m_heldOut = values("heldOutValues");
    m_testValues = values("testValues");
    const auto& aside = session.recipe().setAside;
    m_kind->setCurrentIndex(m_kind->findData(aside ? static_cast<int>(aside->kind) : nothing));
    m_share->setValue(aside ? 100 * aside->share : 0);
    m_test->setValue(aside ? 100 * aside->testShare : 0);
    m_seed->setValue(aside ? static_cast<int>(std::min<std::uint64_t>(aside->seed, 1000000000)) : 7);
    m_bands->setValue(aside ? aside->bands : 5);
    m_form->addRow(tr("Set aside"), m_kind);
    m_form->addRow(tr("Column"), m_column);
    m_form->addRow(tr("Held out"), m_share);
    m_form->addRow(tr("Locked for the test"), m_test);
    m_form->addRow(tr("Bands of a number"), m_bands);
    m_form->addRow(tr("Values that mean held out"), m_heldOut);
    m_form->addRow(tr("Values that mean test"), m_testValues);
    m_form->addRow(tr("Seed"), m_seed);
    m_hint = plainLabel({}, "hint");
    m_hint->setWordWrap(true);
    m_hint->setMinimumWidth(420);
    m_form->addRow(m_hint);
    for (const LeftOutRow& row : session.recipe().leaveOut) {
        auto* back = linkButton(tr("take back"), this);
        m_form->addRow(plainLabel(tr("Row %1 left out: %2").arg(qs(countText(row.row)), qs(row.reason))),
                       back);
        connect(back, &QPushButton::clicked, this, [this, number = row.row] {
            Recipe recipe = m_session.draft();
            std::erase_if(recipe.leaveOut, [&](const LeftOutRow& r) { return r.row == number; });
            reject();
            m_session.change(recipe);
        });
    }
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(m_kind, &QComboBox::currentIndexChanged, this, [this] {
        if (kind() != SetAsideKind::column && m_kind->currentData().toInt() != nothing &&
            m_share->value() == 0)
            m_share->setValue(25);
        fillColumns();
    });
    connect(m_column, &QComboBox::currentIndexChanged, this, [this] { fillValues(); });
    fillColumns();
}

SetAsideKind PartsDialog::kind() const {
    return static_cast<SetAsideKind>(m_kind->currentData().toInt());
}

void PartsDialog::fillColumns() {
    const auto& aside = m_session.recipe().setAside;
    {
        const QSignalBlocker blocker(m_column);
        m_column->clear();
        const bool latest = kind() == SetAsideKind::latest;
        const bool groups = kind() == SetAsideKind::groups || kind() == SetAsideKind::column;
        const Role wanted = latest ? Role::time : Role::group;
        QString first;
        for (const Column& column : m_session.table().columns()) {
            const bool fits =
                latest   ? column.kind() == ColumnKind::date || column.kind() == ColumnKind::number
                : groups ? column.kind() == ColumnKind::factor || column.kind() == ColumnKind::text
                         : column.kind() == ColumnKind::factor || column.kind() == ColumnKind::number;
            if (!fits) continue;
            m_column->addItem(qs(column.name()));
            if (first.isEmpty() && (roleOf(m_session.recipe(), column.name()) == wanted ||
                                    (latest && column.kind() == ColumnKind::date)))
                first = qs(column.name());
        }
        if (aside && aside->kind == kind() && !aside->column.empty()) first = qs(aside->column);
        if (!first.isEmpty()) m_column->setCurrentText(first);
    }
    fillValues();
}

void PartsDialog::fillValues() {
    const auto& aside = m_session.recipe().setAside;
    const Column* column = m_session.table().find(ss(m_column->currentText()));
    auto fill = [&](QListWidget* list, const std::vector<std::string>& chosen) {
        const QSignalBlocker blocker(list);
        list->clear();
        if (kind() != SetAsideKind::column || !column || column->kind() != ColumnKind::factor) return;
        for (const auto& level : column->levels()) {
            auto* item = new QListWidgetItem(qs(level), list);
            item->setFlags(Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemIsUserCheckable);
            item->setCheckState(
                std::find(chosen.begin(), chosen.end(), level) != chosen.end() ? Qt::Checked : Qt::Unchecked);
        }
    };
    fill(m_heldOut, aside ? aside->heldOutValues : std::vector<std::string>());
    fill(m_testValues, aside ? aside->testValues : std::vector<std::string>());
    changed();
}

void PartsDialog::changed() {
    if (!m_ok) return; // while the fields are being made
    const bool none = m_kind->currentData().toInt() == nothing;
    const bool byColumn = !none && kind() == SetAsideKind::column;
    const bool random = !none && (kind() == SetAsideKind::random || kind() == SetAsideKind::proportionate ||
                                  kind() == SetAsideKind::groups);
    auto show = [this](QWidget* field, bool shown) {
        field->setVisible(shown);
        m_form->labelForField(field)->setVisible(shown);
    };
    show(m_column, !none && kind() != SetAsideKind::random && kind() != SetAsideKind::firstRows);
    show(m_share, !none && !byColumn);
    show(m_test, !none && !byColumn);
    show(m_seed, random);
    show(m_bands, !none && kind() == SetAsideKind::proportionate);
    show(m_heldOut, byColumn);
    show(m_testValues, byColumn);
    QString trouble;
    if (!none && !byColumn && m_share->value() + m_test->value() >= 100)
        trouble = tr("%1 % and %2 % leave nothing to learn from.").arg(m_share->value()).arg(m_test->value());
    else if (byColumn && ticked(m_heldOut).isEmpty() && ticked(m_testValues).isEmpty())
        trouble = tr("Tick the values that mean held out.");
    const QString foldTrouble = m_folds->trouble();
    m_ok->setEnabled(trouble.isEmpty() && foldTrouble.isEmpty());
    const bool folds = m_folds->plan().has_value();
    const QString says =
        none && folds ? tr("No rows are held out: all learn, and folds judge.")
        : none        ? tr("All rows learn; the error is then judged on the rows it learned from.")
        : folds ? tr("Held-out rows judge the one model that is used, and no fold learns from them: where "
                     "they disagree with the folds is a reading. Test rows stay locked for the end: their "
                     "score is shown when you ask, and every look is counted on the trail.")
                : tr("Held-out rows judge every fit. Test rows stay locked: their score is "
                     "shown when you ask, and every look is "
                     "counted on the trail.");
    const auto tell = [](QLabel* label, const QString& wrong, const QString& right) {
        label->setText(wrong.isEmpty() ? right : wrong);
        label->setStyleSheet(wrong.isEmpty() ? QString() : "color: #A33B2C;");
    };
    tell(m_hint, trouble, says);
    tell(m_foldHint, foldTrouble, m_folds->says());
    if (isVisible()) adjustSize();
}

std::optional<FoldPlan> PartsDialog::folds() const {
    return m_folds->plan();
}

std::optional<SetAside> PartsDialog::setAside() const {
    if (m_kind->currentData().toInt() == nothing) return std::nullopt;
    const auto& before = m_session.recipe().setAside;
    SetAside aside;
    aside.kind = kind();
    if (aside.kind == SetAsideKind::column) {
        aside.heldOutValues = asTexts(ticked(m_heldOut));
        aside.testValues = asTexts(ticked(m_testValues));
    } else {
        // A share the field cannot show to the last digit is kept while nobody changes it.
        const auto shareOf = [](const NumberBox* box, std::optional<double> known) {
            return known && std::fabs(100 * *known - box->value()) < 0.005 ? *known : box->value() / 100;
        };
        aside.share = shareOf(m_share, before ? std::optional(before->share) : std::nullopt);
        aside.testShare = shareOf(m_test, before ? std::optional(before->testShare) : std::nullopt);
        if (aside.share + aside.testShare == 0) return std::nullopt;
    }
    if (aside.kind == SetAsideKind::random || aside.kind == SetAsideKind::proportionate ||
        aside.kind == SetAsideKind::groups)
        aside.seed = static_cast<std::uint64_t>(m_seed->value());
    if (aside.kind == SetAsideKind::proportionate) aside.bands = m_bands->value();
    if (aside.kind != SetAsideKind::random && aside.kind != SetAsideKind::firstRows)
        aside.column = ss(m_column->currentText());
    // Another way to set rows aside holds them out; the same one keeps to what was said of them.
    SetAside same = aside;
    same.heldOutLearn = true;
    if (before && *before == same) aside.heldOutLearn = true;
    return aside;
}

} // namespace oxgoad

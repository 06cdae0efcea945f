#include "app/forecast/made_dialog.h"

#include "app/parts.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <QScrollArea>
#include <array>

namespace oxgoad {

namespace {

constexpr std::array periodNames{"day", "week", "month", "quarter", "year"};
constexpr std::size_t mostSeries = 200;

} // namespace

MadeDialog::MadeDialog(Session& session, QWidget* parent) : QDialog(parent), m_session(session) {
    setObjectName("madeDialog");
    setWindowTitle(tr("Rows for the next periods"));
    auto* form = new QFormLayout(this);
    m_date = new QComboBox(this);
    m_date->setObjectName("madeDate");
    m_by = new QListWidget(this);
    m_by->setObjectName("madeBy");
    m_by->setMaximumHeight(84);
    const auto rows = session.rows();
    const std::string response = session.draft().response;
    for (const Column& column : rows->learning.table.columns()) {
        if (column.kind() == ColumnKind::date) m_date->addItem(qs(column.name()));
        if (column.kind() != ColumnKind::factor || column.levels().size() > mostSeries) continue;
        auto* item = new QListWidgetItem(qs(column.name()), m_by);
        item->setCheckState(Qt::Unchecked);
    }
    m_every = new QComboBox(this);
    m_every->setObjectName("madeEvery");
    for (const char* period : periodNames)
        m_every->addItem(tr(period));
    m_every->setCurrentIndex(2);
    m_periods = new WholeBox(1, 10000, this);
    m_periods->setObjectName("madePeriods");
    m_periods->setValue(12);
    form->addRow(tr("Along"), m_date);
    form->addRow(tr("A row for every"), m_every);
    form->addRow(tr("Periods"), m_periods);
    form->addRow(tr("For each"), m_by);
    auto* list = new QWidget(this);
    auto* columns = new QFormLayout(list);
    columns->setContentsMargins(0, 0, 0, 0);
    for (const Column& column : rows->learning.table.columns()) {
        if (column.name() == response || column.kind() == ColumnKind::date) continue;
        Carried carried{column.name(), column.kind() == ColumnKind::number};
        auto* line = new QHBoxLayout;
        carried.how = new QComboBox(list);
        carried.how->setObjectName(qs("madeHow_" + column.name()));
        carried.how->setAccessibleName(tr("How %1 goes on").arg(qs(column.name())));
        carried.how->addItems(
            {tr("last value, or the calendar"), tr("same period last year"), tr("usual value"), tr("given")});
        carried.value = new QLineEdit(list);
        carried.value->setObjectName(qs("madeValue_" + column.name()));
        carried.value->setAccessibleName(tr("The value given for %1").arg(qs(column.name())));
        carried.value->setFixedWidth(110);
        carried.value->setEnabled(false);
        carried.value->setPlaceholderText(tr("value"));
        line->addWidget(carried.how);
        line->addWidget(carried.value);
        columns->addRow(plainLabel(qs(column.name())), line);
        connect(carried.how, &QComboBox::currentIndexChanged, this, [this, value = carried.value](int how) {
            value->setEnabled(how == 3);
            changed();
        });
        connect(carried.value, &QLineEdit::textChanged, this, &MadeDialog::changed);
        m_columns.push_back(carried);
    }
    auto* scroll = new QScrollArea(this);
    scroll->setWidget(list);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->viewport()->setAutoFillBackground(false);
    list->setAutoFillBackground(false); // which it was given
    scroll->setMinimumHeight(160);
    scroll->setMinimumWidth(list->sizeHint().width() + 24);
    form->addRow(plainLabel(tr("Go on by")), scroll);
    m_hint = plainLabel({}, "hint");
    m_hint->setWordWrap(true);
    m_hint->setMinimumWidth(420);
    form->addRow(m_hint);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    const auto& forecast = session.draft().forecast;
    if (forecast && forecast->made) { // as asked before
        const MadeRows& made = *forecast->made;
        m_date->setCurrentText(qs(made.date));
        m_every->setCurrentText(qs(made.every));
        m_periods->setValue(made.periods);
        for (const std::string& name : made.by)
            for (QListWidgetItem* item : m_by->findItems(qs(name), Qt::MatchExactly))
                item->setCheckState(Qt::Checked);
        for (const CarriedColumn& carried : made.columns)
            for (Carried& line : m_columns)
                if (line.column == carried.column) {
                    line.how->setCurrentIndex(static_cast<int>(carried.how));
                    const auto* number = std::get_if<double>(&carried.value);
                    if (carried.how == CarriedColumn::How::given)
                        line.value->setText(number ? QString::number(*number, 'g', 17)
                                                   : qs(std::get<std::string>(carried.value)));
                }
    }
    changed();
}

std::optional<MadeRows> MadeDialog::made() const {
    MadeRows out{.date = ss(m_date->currentText()),
                 .every = periodNames[static_cast<std::size_t>(m_every->currentIndex())],
                 .periods = m_periods->value()};
    if (out.date.empty()) return {};
    for (int i = 0; i < m_by->count(); ++i)
        if (m_by->item(i)->checkState() == Qt::Checked) out.by.push_back(ss(m_by->item(i)->text()));
    for (const Carried& line : m_columns) {
        CarriedColumn carried{line.column, static_cast<CarriedColumn::How>(line.how->currentIndex())};
        if (carried.how == CarriedColumn::How::lastValue) continue;
        if (carried.how == CarriedColumn::How::given) {
            const QString text = line.value->text().trimmed();
            const auto number = line.number ? typedNumber(text) : std::nullopt;
            if (line.number && !number) return {};
            if (number)
                carried.value = *number;
            else
                carried.value = ss(text);
        }
        out.columns.push_back(std::move(carried));
    }
    return out;
}

void MadeDialog::changed() {
    const auto asked = made();
    m_ok->setEnabled(asked.has_value());
    m_hint->setText(
        m_date->count() == 0 ? tr("There is no column of dates to make the next periods of.")
        : !asked
            ? tr("A value that is given must be a number.")
            : tr("The next periods after the last date with a %1, one row for each series. What comes of "
                 "columns that are not known yet is an assumption: it is said with the forecast.")
                  .arg(qs(m_session.draft().response)));
}

} // namespace oxgoad

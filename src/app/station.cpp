#include "app/station.h"

#include "base/text.h"
#include "workspace/text.h"

#include <QAbstractItemView>
#include <QShortcut>
#include <QSignalBlocker>
#include <cmath>

namespace oxgoad {

Station::Station(Session& session, const QString& name, QWidget* parent)
    : QWidget(parent), m_session(session), m_name(name) {
    setObjectName("stationSheet");
    setAttribute(Qt::WA_StyledBackground);
    connect(&session, &Session::rowsChanged, this, &Station::refreshLater);
    connect(&session, &Session::fitChanged, this, &Station::refreshLater);
}

void Station::refreshLater() {
    m_stale = true;
    if (!isVisible()) return;
    m_stale = false;
    refresh();
}

void Station::showEvent(QShowEvent* event) {
    QWidget::showEvent(event);
    for (PlotFrame* plot : m_linked)
        showSelectionIn(*plot);
    if (!m_stale) return;
    m_stale = false;
    refresh();
}

std::vector<PlotFrame::Marks> Station::marksByPart(const std::function<double(std::size_t)>& x,
                                                   const std::function<double(std::size_t)>& y) const {
    return marksOf(m_session.evidence().get(), m_session.table().rows(), x, y);
}

std::vector<PlotFrame::Marks> Station::marksOf(const Evidence* evidence, std::size_t n,
                                               const std::function<double(std::size_t)>& x,
                                               const std::function<double(std::size_t)>& y) {
    PlotFrame::Marks learning{tr("learning rows"), theme::Mark::learning, {}, {}, {}};
    PlotFrame::Marks heldOut{tr("held-out rows"), theme::Mark::heldOut, {}, {}, {}};
    for (std::size_t i = 0; i < n; ++i) {
        const RowState state = evidence ? evidence->rows.state[i] : RowState::learning;
        if (state == RowState::leftOut || state == RowState::test || state == RowState::weightless) continue;
        const double a = x(i);
        const double b = y(i);
        if (!std::isfinite(a) || !std::isfinite(b)) continue;
        PlotFrame::Marks& marks = state == RowState::heldOut ? heldOut : learning;
        marks.x.push_back(a);
        marks.y.push_back(b);
        marks.rows.push_back(i);
    }
    std::vector<PlotFrame::Marks> all;
    if (!evidence) learning.name = tr("rows");
    if (!learning.x.empty()) all.push_back(std::move(learning));
    if (!heldOut.x.empty()) all.push_back(std::move(heldOut));
    return all;
}

void fillBox(QComboBox& box, const QStringList& items, const QString& fallback) {
    const QSignalBlocker blocker(box);
    const QString before = box.currentText();
    QStringList present;
    for (int i = 0; i < box.count(); ++i)
        present << box.itemText(i);
    if (present != items) {
        box.clear();
        // Of thousands of names the width is that of the longest, not measured name by name for every layout.
        constexpr int measured = 200, widest = 28;
        qsizetype longest = 0;
        for (const QString& item : items)
            longest = std::max(longest, item.size());
        box.setSizeAdjustPolicy(items.size() > measured ? QComboBox::AdjustToMinimumContentsLengthWithIcon
                                                        : QComboBox::AdjustToContents);
        box.setMinimumContentsLength(
            items.size() > measured ? static_cast<int>(std::min<qsizetype>(longest, widest)) : 0);
        box.addItems(items);
    }
    box.setCurrentText(items.contains(before) ? before : fallback);
}

void Station::findWith(QLineEdit& field) {
    auto* find = new QShortcut(QKeySequence::Find, this);
    connect(find, &QShortcut::activated, &field, qOverload<>(&QWidget::setFocus));
}

std::function<QString(std::size_t)> Station::rowDescription() const {
    const auto rows = m_session.prepared();
    return [rows](std::size_t row) {
        QStringList parts;
        for (const Column& column : rows->table.columns()) {
            if (column.kind() == ColumnKind::number) continue;
            parts << qs(column.cellText(row));
            if (parts.size() == 3) break;
        }
        return parts.join(", ");
    };
}

void Station::link(PlotFrame& plot) {
    m_linked.push_back(&plot);
    connect(&plot, &PlotFrame::rowClicked, this, [this](std::size_t row) { m_session.selectRow(row); });
    connect(&plot, &PlotFrame::rowOpened, this, [this](std::size_t row) { m_session.openRow(row); });
    connect(&plot, &PlotFrame::rowsMarked, this,
            [this](const std::vector<std::size_t>& rows, bool add) { m_session.markRows(rows, add); });
    connect(&m_session, &Session::selectionChanged, &plot, [this, &plot] {
        // What is not seen is drawn once it is shown.
        if (plot.isVisible()) showSelectionIn(plot);
    });
}

void Station::showSelectionIn(PlotFrame& plot) const {
    plot.setSelectedRow(m_session.selectedRow());
    plot.setMarkedRows(m_session.markedRows());
}

QComboBox* plainBox(const QString& accessibleName, const QString& objectName, QWidget* parent) {
    auto* box = new QComboBox(parent);
    box->setAccessibleName(accessibleName);
    box->setObjectName(objectName);
    box->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    box->setMinimumWidth(120);
    box->setMaxVisibleItems(20);
    return box;
}

} // namespace oxgoad

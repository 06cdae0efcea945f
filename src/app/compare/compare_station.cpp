#include "app/compare/compare_station.h"

#include "app/parts.h"
#include "base/text.h"
#include "study/compare.h"
#include "study/say.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

CompareStation::CompareStation(Session& session, QWidget* parent) : Station(session, "compare", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 6);
    auto* head = new QHBoxLayout;
    m_left = plainBox(tr("First fit"), "leftFit", this);
    m_right = plainBox(tr("Second fit"), "rightFit", this);
    head->addWidget(m_left);
    head->addWidget(plainLabel(tr("beside")));
    head->addWidget(m_right);
    head->addStretch(1);
    layout->addLayout(head);
    m_sentence = plainLabel({});
    m_sentence->setWordWrap(true);
    layout->addWidget(m_sentence);
    auto* splitter = new QSplitter(Qt::Horizontal, this);
    splitter->setHandleWidth(1);
    m_table = new GridView(tr("Two fits side by side"), splitter);
    m_table->setObjectName("compare");
    m_table->setModel(&m_model);
    m_plot = new PlotFrame(tr("Predictions of both fits"), splitter);
    splitter->addWidget(m_table);
    splitter->addWidget(m_plot);
    splitter->setSizes({560, 380});
    layout->addWidget(splitter, 1);
    for (QComboBox* box : {m_left, m_right})
        connect(box, &QComboBox::currentTextChanged, this, &CompareStation::draw);
    connect(&session, &Session::evidenceReady, this, [this] {
        if (isVisible()) draw();
    });
    connect(&session, &Session::trailChanged, this, [this] { refreshLater(); });
    link(*m_plot);
}

QString CompareStation::sentence(int left, const Evidence& a, int right, const Evidence& b) const {
    const TrailFit* first = m_session.trail().find(left);
    const TrailFit* second = m_session.trail().find(right);
    if (!first || !second) return {};
    QString text = qs(comparisonSentence({a, first->recipe, "fit " + std::to_string(left)},
                                         {b, second->recipe, "fit " + std::to_string(right)}));
    const Comparison both = compareHeldOut(a, b);
    if (both.first.rows > 0 && (a.rowsHeldOut != both.first.rows || b.rowsHeldOut != both.first.rows))
        text += tr(" Rows that only one of them holds out do not count.");
    return text;
}

void CompareStation::refresh() {
    QStringList fits;
    QString current, parent;
    const TrailFit* chosen = m_session.trail().find(m_session.current());
    for (const TrailFit& fit : m_session.trail().fits()) {
        fits << QString("%1  %2").arg(fit.number).arg(qs(fit.change));
        if (chosen && fit.number == chosen->number) current = fits.back();
        if (chosen && fit.number == chosen->parent) parent = fits.back();
    }
    if (parent.isEmpty()) parent = fits.value(0);
    fillBox(*m_left, fits, parent);
    fillBox(*m_right, fits, current);
    draw();
}

void CompareStation::draw() {
    const int left = m_left->currentText().section(' ', 0, 0).toInt();
    const int right = m_right->currentText().section(' ', 0, 0).toInt();
    if (left == 0 || right == 0) {
        m_model.setContent({});
        m_sentence->setText(tr("Two fits can be laid side by side once the trail has them."));
        m_plot->clear(tr("No fits yet."));
        return;
    }
    const auto a = m_session.evidenceOf(left);
    const auto b = m_session.evidenceOf(right);
    if (!a || !b) {
        m_sentence->setText(tr("Working out fit %1…").arg(a ? right : left));
        return;
    }
    const int lines = m_model.rowCount();
    m_model.setContent(compareGrid(m_session, left, a.get(), right, b.get()));
    if (lines != m_model.rowCount()) m_table->fitColumns(240);
    if (left == right)
        m_sentence->setText(tr("The same fit on both sides."));
    else
        m_sentence->setText(sentence(left, *a, right, *b));
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
    content.summary = tr("Predictions of fit %1 against those of fit %2").arg(right).arg(left);
    m_plot->setDescription(rowDescription());
    m_plot->show(std::move(content));
    showSelectionIn(*m_plot);
}

} // namespace oxgoad

#include "app/goads/goads_panel.h"

#include "app/parts.h"
#include "app/theme.h"
#include "base/text.h"
#include "check/explain.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLineEdit>
#include <QPainter>
#include <QScrollArea>
#include <QScrollBar>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// More cards than anybody reads only hold the window up.
constexpr int mostCards = 60;

/// A card with a coloured edge.
class Card : public QWidget {
public:
    Card(const QColor& edge, QWidget* parent) : QWidget(parent), m_edge(edge) {}

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        painter.fillRect(0, 2, 3, height() - 4, m_edge);
    }

private:
    QColor m_edge;
};

QLabel* wrapped(const QString& text, const QString& name) {
    QLabel* label = plainLabel(text, name);
    label->setWordWrap(true);
    return label;
}

} // namespace

GoadsPanel::GoadsPanel(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    setObjectName("goadsPanel");
    setAttribute(Qt::WA_StyledBackground);
    setAccessibleName(tr("Goads"));
    setFixedWidth(236);
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(16, 14, 8, 8);
    m_heading = plainLabel(tr("Goads"), "heading");
    layout->addWidget(m_heading);
    m_counts = plainLabel({}, "hint");
    m_counts->setProperty("goadCounts", true);
    layout->addWidget(m_counts);
    auto* scroll = m_scroll = new QScrollArea(this);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidgetResizable(true);
    scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    m_inner = new QWidget(scroll);
    m_inner->setObjectName("goadsInner");
    m_cards = new QVBoxLayout(m_inner);
    m_cards->setContentsMargins(0, 6, 6, 6);
    m_cards->setSpacing(14);
    m_cards->addStretch(1);
    scroll->setWidget(m_inner);
    layout->addWidget(scroll, 1);
    connect(&session, &Session::movePreviewed, this, &GoadsPanel::showPreview);
    connect(&session.checkJobs(), &Jobs::busyChanged, this, [this] { m_later.start(0); });
    // In a turn of the event loop of its own, so that a new fit never holds the window up for long.
    m_later.setSingleShot(true);
    connect(&m_later, &QTimer::timeout, this, &GoadsPanel::rebuild);
    connect(&session, &Session::fitChanged, this, [this] { m_later.start(0); });
    rebuild();
}

void GoadsPanel::rebuild() {
    // Who reads a card keeps it in view.
    QMetaObject::invokeMethod(
        this,
        [this, at = m_scroll->verticalScrollBar()->value()] { m_scroll->verticalScrollBar()->setValue(at); },
        Qt::QueuedConnection);
    while (m_cards->count() > 1) {
        QLayoutItem* item = m_cards->takeAt(0);
        if (item->widget()) {
            item->widget()->hide();
            item->widget()->deleteLater();
        }
        delete item;
    }
    m_heading->setText(m_session.evidence() && m_session.current() > 0
                           ? tr("Goads of fit %1").arg(m_session.current())
                           : tr("Goads"));
    if (!m_session.hasRows()) {
        m_counts->setText({});
        m_cards->insertWidget(
            0, wrapped(tr("What could make the forecast wrong is looked for as soon as there are rows."),
                       "hint"));
        return;
    }
    // The fit's own goads first; those about columns that are not in it stand below a line of their own.
    const auto found = m_session.goads();
    const auto& goads = found.all;
    const std::size_t own = m_session.evidence() ? found.ofTheFit : 0;
    std::size_t open = 0, accepted = 0;
    int place = 0;
    const auto put = [&](QWidget* widget) { m_cards->insertWidget(place++, widget); };
    std::vector<std::uint8_t> told(goads.size(), 0);
    for (const bool wantAccepted : {false, true})
        for (std::size_t i = 0; i < goads.size(); ++i) {
            const Goad& goad = goads[i];
            if (goad.accepted.has_value() != wantAccepted) continue;
            const bool counted = (own == 0 || i < own) && (wantAccepted || goad.under.empty());
            if (counted) (wantAccepted ? accepted : open) += 1;
            if (!wantAccepted && own > 0 && i == own)
                put(wrapped(tr("About columns that are not in the model:"), "hint"));
            if (told[i] != 0 || place >= mostCards || (!wantAccepted && !goad.under.empty())) continue;
            // Open ones that stand under another are told with it.
            std::vector<std::size_t> family{i};
            for (std::size_t k = 0; !wantAccepted && k < goads.size(); ++k)
                if (goads[k].under == goad.key && !goads[k].accepted) family.push_back(k);
            if (family.size() < 2) {
                put(card(goad, 0));
                continue;
            }
            const bool shown = m_openFamilies.contains(qs(goad.key));
            put(familyCard(goads, family, shown));
            for (const std::size_t k : family) {
                told[k] = 1;
                if (shown && place < mostCards) put(card(goads[k], 12));
            }
        }
    if (place >= mostCards)
        put(wrapped(tr("and more; the ledger in Data lists what is odd about every column."), "hint"));
    const std::size_t mended = m_session.trail().mendedGoads(m_session.current()).size();
    // What the checks still running found in the fit before is not mended yet.
    if (m_session.evidence() && checksPending(*m_session.evidence()))
        m_counts->setText(tr("%1 open so far · %2 accepted").arg(open).arg(accepted));
    else
        m_counts->setText(tr("%1 open · %2 mended · %3 accepted").arg(open).arg(mended).arg(accepted));
    if (place == 0) put(wrapped(tr("Nothing was found. Every check passed its threshold."), "hint"));
    if (m_session.evidence() && m_session.checkJobs().busy())
        put(wrapped(tr("Some checks are still running."), "hint"));
    else if (m_session.evidence() && !m_session.foldJobs().busy() && checksPending(*m_session.evidence())) {
        put(wrapped(tr("Some checks were stopped."), "hint"));
        auto* again = linkButton(tr("run them"), m_inner);
        again->setProperty("runChecks", true);
        put(again);
        connect(again, &QPushButton::clicked, &m_session, &Session::startChecks);
    }
    if (!m_focusAfter.isEmpty()) {
        for (auto* button : m_inner->findChildren<QPushButton*>())
            if (button->property("keeps").toString() == m_focusAfter) button->setFocus();
        m_focusAfter.clear();
    }
}

namespace {

QColor edgeOf(const Goad& goad) {
    return goad.accepted                      ? theme::rule
           : goad.station == "forecast"       ? theme::forecast
           : goad.severity == Severity::alarm ? theme::alarm
                                              : theme::goad;
}

QString costText(const Goad& goad) {
    if (!goad.cost || !std::isfinite(*goad.cost)) return {};
    const double percent = 100 * *goad.cost;
    return percent < 0.1 ? GoadsPanel::tr("costs less than 0.1 %")
                         : GoadsPanel::tr("costs about %1 %").arg(qs(readableText(percent, 2)));
}

} // namespace

QWidget* GoadsPanel::familyCard(const std::vector<Goad>& goads, const std::vector<std::size_t>& family,
                                bool shown) {
    const Goad& first = goads[family.front()];
    const QString title = qs(first.title);
    const auto alike =
        static_cast<std::size_t>(std::count_if(family.begin(), family.end(), [&](std::size_t k) {
            return !first.family.empty() && goads[k].family == first.family;
        }));
    QStringList more;
    if (alike > 1) more << qs(first.familyTitle).replace("#", QString::number(alike));
    if (family.size() > std::max<std::size_t>(alike, 1))
        more << tr("with what follows from it: %1")
                    .arg(qs(plural(family.size() - std::max<std::size_t>(alike, 1), "sign", "signs")));
    bool alarm = false;
    for (const std::size_t k : family)
        alarm = alarm || goads[k].severity == Severity::alarm;
    Goad worst = first;
    worst.severity = alarm ? Severity::alarm : Severity::caution;
    auto* card = new Card(edgeOf(worst), m_inner);
    card->setObjectName("goadFamily");
    card->setProperty("family", qs(first.key));
    card->setAccessibleName(title);
    auto* layout = new QVBoxLayout(card);
    layout->setContentsMargins(12, 0, 0, 0);
    layout->setSpacing(2);
    auto* label = wrapped(title, "heading");
    label->setFont(theme::font(theme::textSize, true));
    layout->addWidget(label);
    layout->addWidget(wrapped(qs(first.reading), "hint"));
    if (const QString cost = costText(first); !cost.isEmpty()) more << cost;
    layout->addWidget(wrapped(more.join("; "), "hint"));
    auto* toggle = linkButton(shown ? tr("close") : tr("open"), card);
    toggle->setAccessibleName(shown ? tr("Close: %1").arg(title) : tr("Open: %1").arg(title));
    toggle->setProperty("keeps", "family " + qs(first.key));
    layout->addWidget(toggle, 0, Qt::AlignLeft);
    connect(toggle, &QPushButton::clicked, this, [this, name = qs(first.key)] {
        if (!m_openFamilies.remove(name)) m_openFamilies.insert(name);
        m_focusAfter = "family " + name;
        m_later.start(0);
    });
    return card;
}

QWidget* GoadsPanel::card(const Goad& goad, int indent) {
    auto* card = new Card(edgeOf(goad), m_inner);
    card->setObjectName("goadCard");
    card->setProperty("goad", qs(goad.key));
    card->setAccessibleName(qs(goad.title));
    auto* layout = new QVBoxLayout(card);
    layout->setContentsMargins(12 + indent, 0, 0, 0);
    layout->setSpacing(2);
    auto* title = wrapped(qs(goad.title), "heading");
    title->setFont(theme::font(goad.tells == Tells::first ? theme::textSize + 2 : theme::textSize, true));
    layout->addWidget(title);
    if (!goad.acceptedBefore.empty())
        layout->addWidget(wrapped(
            tr("accepted before (%1), and clearly worse since").arg(qs(goad.acceptedBefore)), "hint"));
    layout->addWidget(wrapped(qs(goad.reading), "hint"));
    const QString cost = costText(goad);
    layout->addWidget(wrapped((cost.isEmpty() ? QString() : cost + "; ") +
                                  tr("threshold %1 (%2)").arg(qs(goad.threshold), qs(goad.source)),
                              "hint"));
    addWhy(*layout, *card, goad);
    auto* moves = new QWidget(card);
    auto* flow = new FlowLayout(moves, 12, 0);
    auto* why = linkButton(m_openWhys.contains(qs(goad.key)) ? tr("less") : tr("why?"), moves);
    why->setAccessibleName(tr("Why? %1").arg(qs(goad.title)));
    why->setProperty("keeps", "why " + qs(goad.key));
    flow->addWidget(why);
    connect(why, &QPushButton::clicked, this, [this, goad] {
        const QString key = qs(goad.key);
        if (!m_openWhys.remove(key)) {
            m_openWhys.insert(key);
            m_session.previewMoves(goad);
        }
        m_focusAfter = "why " + key;
        m_later.start(0);
    });
    if (goad.accepted) {
        layout->addWidget(wrapped(tr("accepted: %1").arg(qs(*goad.accepted)), "hint"));
        auto* back = linkButton(tr("take back"), moves);
        flow->addWidget(back);
        connect(back, &QPushButton::clicked, this,
                [this, key = goad.key] { m_session.takeBackAcceptance(key); });
    } else {
        const bool jumps = std::any_of(goad.moves.begin(), goad.moves.end(),
                                       [](const Move& m) { return m.shows != Move::Shows::nothing; });
        if (!jumps) {
            auto* show = linkButton(tr("show"), moves);
            flow->addWidget(show);
            connect(show, &QPushButton::clicked, this,
                    [this, goad] { emit evidenceWanted(qs(goad.station), qs(goad.column)); });
        }
        for (const Move& move : goad.moves) {
            auto* button = linkButton(qs(move.label), moves);
            constexpr int widest = 180; // a long name must not widen the column
            const QString shown =
                QFontMetrics(theme::font(12, true)).elidedText(button->text(), Qt::ElideRight, widest);
            button->setProperty("move", qs(move.label));
            if (shown != button->text()) {
                button->setText(shown);
                button->setToolTip(qs(move.label).toHtmlEscaped());
            }
            flow->addWidget(button);
            connect(button, &QPushButton::clicked, this, [this, move, goad, card] { act(move, goad, card); });
        }
        auto* accept = linkButton(tr("accept…"), moves);
        accept->setProperty("accept", true);
        flow->addWidget(accept);
        connect(accept, &QPushButton::clicked, this, [this, card, key = goad.key] {
            askReason(card, tr("Why is it acceptable?"),
                      [this, key](const std::string& reason) { m_session.acceptGoad(key, reason); });
        });
    }
    QSizePolicy policy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    policy.setHeightForWidth(true);
    moves->setSizePolicy(policy);
    layout->addWidget(moves);
    return card;
}

void GoadsPanel::addWhy(QVBoxLayout& layout, QWidget& card, const Goad& goad) {
    if (!m_openWhys.contains(qs(goad.key))) return;
    const Explanation explained = explain(goad);
    auto* what = wrapped(qs(explained.what), {});
    what->setProperty("why", 0);
    auto* here = wrapped(qs(explained.here), {});
    here->setProperty("why", 1);
    auto* answers = wrapped(qs(explained.answers), {});
    answers->setProperty("why", 2);
    for (QLabel* label : {what, here, answers})
        layout.addWidget(label);
    if (!goad.accepted)
        for (const Move& move : goad.moves) {
            if (!move.edit) continue;
            auto* preview = wrapped(tr("%1: working out what it would change …").arg(qs(move.label)), "hint");
            preview->setProperty("previewOf", qs(move.label));
            layout.addWidget(preview);
        }
    auto* help = linkButton(tr("formula and source"), &card);
    layout.addWidget(help, 0, Qt::AlignLeft);
    connect(help, &QPushButton::clicked, this,
            [this, topic = qs(explained.help)] { emit helpWanted(topic); });
    // What is known is there at once; what is not is being worked out.
    QMetaObject::invokeMethod(
        this, [this, goad] { m_session.previewMoves(goad); }, Qt::QueuedConnection);
}

void GoadsPanel::showPreview(const QString& goad, const QString& move, const QString& says) {
    for (auto* card : m_inner->findChildren<QWidget*>("goadCard")) {
        if (card->property("goad").toString() != goad) continue;
        for (auto* label : card->findChildren<QLabel*>())
            if (label->property("previewOf").toString() == move) label->setText(move + ": " + says);
    }
}

void GoadsPanel::act(const Move& move, const Goad& goad, QWidget* card) {
    if (move.edit && !move.asks.empty())
        askReason(card, qs(move.asks),
                  [this, edit = move.edit](const std::string& reason) { m_session.make(edit, reason); });
    else if (move.edit)
        m_session.make(move.edit, {});
    switch (move.shows) {
    case Move::Shows::nothing:
        break;
    case Move::Shows::row:
        m_session.selectRow(move.row);
        emit evidenceWanted(qs(goad.station), {});
        break;
    case Move::Shows::steps:
        emit evidenceWanted(qs(goad.station), "\n");
        break;
    case Move::Shows::rowsToForecast:
    case Move::Shows::column:
        emit evidenceWanted(qs(goad.station), qs(goad.column));
        break;
    }
}

void GoadsPanel::askReason(QWidget* card, const QString& prompt,
                           const std::function<void(const std::string&)>& use) {
    if (auto* old = card->findChild<QLineEdit*>("reason")) old->deleteLater();
    auto* edit = new QLineEdit(card);
    edit->setObjectName("reason");
    edit->setPlaceholderText(prompt);
    edit->setAccessibleName(prompt);
    card->layout()->addWidget(edit);
    edit->setFocus();
    connect(edit, &QLineEdit::returnPressed, this, [edit, use] {
        const std::string reason = ss(edit->text().trimmed());
        if (!reason.empty()) use(reason);
    });
}

} // namespace oxgoad

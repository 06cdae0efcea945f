#include "app/fit/effect_pane.h"

#include "app/parts.h"
#include "base/text.h"
#include "study/say.h"
#include "table/values.h"
#include "workspace/text.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

const std::string holdKey = "hold ";
/// Levels whose names are read along an axis.
constexpr std::size_t mostNames = 30;

/// Colours and dashes that tell lines of a pair apart, in the palette's order.
struct LineLook {
    QColor colour;
    Qt::PenStyle style;
};
LineLook lookOf(std::size_t line) {
    static const std::array<QColor, 4> colours{theme::learning, theme::heldOut, theme::forecast, theme::goad};
    static const std::array<Qt::PenStyle, 3> styles{Qt::SolidLine, Qt::DashLine, Qt::DotLine};
    return {colours[line % colours.size()], styles[line / colours.size() % styles.size()]};
}

} // namespace

EffectPane::EffectPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    m_plot = new PlotFrame(tr("Effect of the chosen term"), this);
    m_plot->setObjectName("effectPlot");
    layout->addWidget(m_plot, 1);
    m_average = plainLabel({}, "hint");
    m_average->setObjectName("averageEffect");
    m_average->setWordWrap(true);
    m_average->setContentsMargins(8, 0, 8, 0);
    layout->addWidget(m_average);
    auto* line = new QHBoxLayout;
    line->setContentsMargins(8, 0, 8, 2);
    m_held = plainLabel({}, "hint");
    m_held->setObjectName("heldValues");
    m_held->setWordWrap(true);
    line->addWidget(m_held, 1);
    m_hold = linkButton(tr("hold at…"), this);
    m_hold->setToolTip(tr("Choose the values the other columns are held at"));
    line->addWidget(m_hold, 0, Qt::AlignTop);
    layout->addLayout(line);
    connect(m_hold, &QPushButton::clicked, this, &EffectPane::chooseHeld);
    clear({});
}

void EffectPane::clear(const QString& why) {
    m_shown.reset();
    m_shownFor.clear();
    m_column.clear();
    m_plot->clear(why);
    m_average->clear();
    m_held->clear();
    m_average->hide();
    m_held->hide();
    m_hold->hide();
}

std::map<std::string, double> EffectPane::held() const {
    std::map<std::string, double> values;
    for (const auto& [key, text] : m_session.view())
        if (key.starts_with(holdKey)) {
            bool fine = false;
            const double value = QString::fromStdString(text).toDouble(&fine);
            if (fine) values[key.substr(holdKey.size())] = value;
        }
    return values;
}

void EffectPane::showEffect(const std::string& column, const std::string& by) {
    m_column = column;
    m_by = by;
    start();
}

void EffectPane::start() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    if (!evidence || !evidence->study || !prepared || m_column.empty()) return;
    // A level that the factor no longer has cannot be held.
    std::map<std::string, double> hold;
    for (const auto& [column, value] : held())
        for (const Input& input : evidence->study->inputs)
            if (input.name == column &&
                (!input.factor || (value >= 0 && value < static_cast<double>(input.levels.size()))))
                hold[column] = value;
    std::string wanted = m_column + "\n" + m_by;
    for (const auto& [column, value] : hold)
        wanted += "\n" + column + "=" + exactText(value);
    if (m_shown == evidence && m_shownFor == wanted) return;
    m_shown = evidence;
    m_shownFor = wanted;
    m_session.effectJobs().start(
        tr("Effect"),
        [this, evidence, prepared, hold, column = m_column, by = m_by,
         wanted](Progress& progress) -> Jobs::Finish {
            auto found = std::make_shared<Found>();
            found->effect = by.empty() ? effectOf(*evidence, prepared->table, column, hold, progress)
                                       : pairEffect(*evidence, prepared->table, column, by, hold, progress);
            found->average = averageMarginalEffects(*evidence, prepared->table, {}, progress, column);
            return [this, found, wanted] {
                if (m_shownFor == wanted) draw(found);
            };
        });
}

void EffectPane::draw(std::shared_ptr<const Found> found) {
    const Effect& effect = found->effect;
    const auto& evidence = m_shown;
    PlotFrame::Content content;
    content.xTitle = m_session.titled(effect.column);
    content.yTitle = m_session.titled(evidence->response);
    content.xIsDate = effect.dates;
    const bool pair = effect.lines.size() > 1 || !effect.by.empty();
    // Hundreds of names are not read along an axis: such levels stand from low to high, as a curve.
    const bool sorted = !pair && effect.levels.size() > mostNames;
    const std::vector<double> places = sorted ? placesByMean(effect) : std::vector<double>();
    if (sorted)
        content.xTitle = tr("%1 levels of %2, from low to high")
                             .arg(qs(countText(effect.levels.size())), qs(effect.column));
    else
        for (const std::string& level : effect.levels)
            content.xLevels << qs(level);
    content.legend = pair;
    double low = std::numeric_limits<double>::infinity(), high = -low;
    const auto reach = [&](double v) {
        if (!std::isfinite(v)) return;
        low = std::min(low, v);
        high = std::max(high, v);
    };
    for (std::size_t l = 0; l < effect.lines.size(); ++l) {
        const EffectLine& from = effect.lines[l];
        const LineLook look = pair ? lookOf(l) : LineLook{theme::ink, Qt::SolidLine};
        PlotFrame::Marks marks{{}, theme::Mark::learning, {}, {}, {}, look.colour};
        if (!pair) marks.colour = theme::learning;
        // Levels stand apart a little, so that rows of one level do not hide another's.
        for (std::size_t i = 0; i < effect.rows.x.size(); ++i) {
            if (effect.rows.line[i] != static_cast<int>(l)) continue;
            const double aside =
                effect.levels.empty() ? 0 : 0.3 * (static_cast<double>(i * 7919 % 101) / 100 - 0.5);
            marks.x.push_back(
                (sorted ? places[static_cast<std::size_t>(effect.rows.x[i])] : effect.rows.x[i]) + aside);
            marks.y.push_back(effect.rows.y[i]);
            marks.rows.push_back(effect.rows.row[i]);
            reach(effect.rows.y[i]);
        }
        content.marks.push_back(std::move(marks));
        if (sorted) {
            drawSorted(from, effect.levels, places, content);
        } else if (effect.levels.empty()) {
            if (std::any_of(from.lower.begin(), from.lower.end(), [](double v) { return std::isfinite(v); }))
                content.bands.push_back({from.at, from.lower, from.upper, look.colour});
            content.lines.push_back({qs(from.label), from.at, from.mean, look.colour, look.style, {}, 2.2});
        } else { // a short line a level, with its interval upright
            const double side =
                effect.lines.size() > 1
                    ? 0.5 * (static_cast<double>(l) / static_cast<double>(effect.lines.size() - 1) - 0.5)
                    : 0;
            for (std::size_t i = 0; i < from.at.size(); ++i) {
                PlotFrame::Line bar{{},
                                    {from.at[i] + side, from.at[i] + side},
                                    {from.lower[i], from.upper[i]},
                                    look.colour,
                                    Qt::SolidLine,
                                    {},
                                    1.6};
                if (std::isfinite(from.lower[i])) content.lines.push_back(std::move(bar));
                const double half = effect.lines.size() > 1 ? 0.08 : 0.2;
                content.lines.push_back({i == 0 ? qs(from.label) : QString(),
                                         {from.at[i] + side - half, from.at[i] + side + half},
                                         {from.mean[i], from.mean[i]},
                                         look.colour,
                                         Qt::SolidLine,
                                         {},
                                         2.6});
            }
        }
        for (const auto* values : {&from.lower, &from.upper})
            for (const double v : *values)
                reach(v);
    }
    for (std::size_t i = 0; i < effect.curves.size(); ++i) {
        const EffectLine& from = effect.curves[i];
        content.lines.push_back({i == 0 ? tr("single rows") : QString(),
                                 from.at,
                                 from.mean,
                                 theme::quiet,
                                 Qt::SolidLine,
                                 {},
                                 0.7});
        for (const double v : from.mean)
            reach(v);
    }
    // Where the rows lie, along the bottom.
    if (effect.levels.empty() && high > low) {
        const double most = *std::max_element(effect.density.begin(), effect.density.end());
        const auto cells = static_cast<double>(effect.density.size());
        const double width = (effect.highest - effect.lowest) / cells;
        const double floor = low - 0.14 * (high - low), tall = 0.1 * (high - low);
        PlotFrame::Band rows{{}, {}, {}, theme::quiet};
        for (std::size_t i = 0; i < effect.density.size(); ++i)
            for (const double side : {0.0, 1.0}) {
                rows.x.push_back(effect.lowest + width * (static_cast<double>(i) + side));
                rows.low.push_back(floor);
                rows.high.push_back(floor + tall * effect.density[i] / most);
            }
        content.bands.push_back(std::move(rows));
    }
    const auto ends = [&](double value) {
        return effect.dates ? dateText(static_cast<std::int32_t>(value)) : shortText(value);
    };
    content.summary = tr("Predicted %1 along %2%3, from %4 to %5, with partial residuals")
                          .arg(qs(evidence->response), qs(effect.column),
                               effect.by.empty() ? QString() : tr(" for each %1").arg(qs(effect.by)),
                               qs(ends(effect.lowest)), qs(ends(effect.highest)));
    m_plot->show(std::move(content));
    m_plot->setMarkOpacity(0.35);
    m_values = effect.held;
    m_average->setText(averageText(*found));
    m_average->setVisible(!m_average->text().isEmpty());
    sayHeld(effect);
}

void EffectPane::drawSorted(const EffectLine& line, const std::vector<std::string>& levels,
                            const std::vector<double>& places, PlotFrame::Content& content) {
    PlotFrame::Line mean{{}, {}, {}, theme::ink, Qt::SolidLine, {}, 2.2};
    PlotFrame::Band band{{}, {}, {}, theme::ink};
    for (auto* values : {&mean.x, &mean.y, &band.x, &band.low, &band.high})
        values->resize(levels.size());
    for (std::size_t level = 0; level < levels.size(); ++level) {
        const auto at = static_cast<std::size_t>(places[level]);
        mean.x[at] = band.x[at] = places[level];
        mean.y[at] = line.mean[level];
        band.low[at] = line.lower[level];
        band.high[at] = line.upper[level];
    }
    if (std::any_of(band.low.begin(), band.low.end(), [](double v) { return std::isfinite(v); }))
        content.bands.push_back(std::move(band));
    content.lines.push_back(std::move(mean));
}

void EffectPane::sayHeld(const Effect& effect) {
    QStringList held;
    for (const HeldValue& value : effect.held)
        held << qs(value.column) + " " + qs(value.text);
    m_held->setText(held.isEmpty() ? QString() : tr("Others held at: %1").arg(held.join(", ")));
    m_held->setVisible(!held.isEmpty());
    m_hold->setVisible(!held.isEmpty());
}

QString EffectPane::averageText(const Found& found) const {
    QStringList said;
    const QString unit = m_session.unit(m_shown->response).section(' ', 0, 0);
    const auto textOf = [](const MarginalEffect& effect) {
        const QString size = std::isnan(effect.standardError)
                                 ? qs(readableText(effect.effect, 3))
                                 : tr("%1 ± %2").arg(qs(supported(effect.effect, effect.standardError)),
                                                     qs(readableText(effect.standardError, 2)));
        return (effect.level.empty() ? tr("one unit more") : qs(effect.level)) + " " + size;
    };
    if (found.average.size() > mostNames) { // the ends say most of many levels
        const std::vector<MarginalEffect> order = fromLowToHigh(found.average);
        const std::size_t last = order.size() - 1;
        return tr("Average effect over the learning rows, lowest: %1, %2; highest: %3, %4%5")
            .arg(textOf(order[0]), textOf(order[1]), textOf(order[last - 1]), textOf(order[last]),
                 unit.isEmpty() ? QString() : " " + unit);
    }
    for (const MarginalEffect& effect : found.average) {
        if (said.size() == 4) {
            said << "…";
            break;
        }
        said << textOf(effect);
    }
    if (said.isEmpty()) return {};
    return tr("Average effect over the learning rows: %1%2")
        .arg(said.join(", "), unit.isEmpty() ? QString() : " " + unit);
}

void EffectPane::askHeld(const HeldValue& value, const std::function<void(double)>& take) {
    const Column* column = m_session.table().find(value.column);
    const bool date = column && column->kind() == ColumnKind::date;
    auto* dialog = new QDialog(this);
    dialog->setObjectName("holdDialog");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle(tr("Hold at"));
    auto* layout = new QVBoxLayout(dialog);
    layout->addWidget(plainLabel(tr("Value of %1").arg(m_session.titled(value.column)), {}, dialog));
    auto* edit = new QLineEdit(date ? qs(value.text) : qs(exactText(value.value)), dialog);
    edit->setObjectName("holdValue");
    edit->setAccessibleName(tr("Value of %1").arg(qs(value.column)));
    edit->selectAll();
    layout->addWidget(edit);
    auto* said = plainLabel({}, "hint", dialog);
    said->setObjectName("holdSaid");
    layout->addWidget(said);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, dialog);
    layout->addWidget(buttons);
    auto* ok = buttons->button(QDialogButtonBox::Ok);
    const auto read = [date](const QString& text) -> std::optional<double> {
        if (!date) return typedNumber(text);
        const auto day = parseDate(ss(text), DateOrder::yearFirst);
        return day ? std::optional(static_cast<double>(*day)) : std::nullopt;
    };
    const auto judge = [=] {
        const bool fine = read(edit->text()).has_value();
        ok->setEnabled(fine);
        said->setText(fine || edit->text().isEmpty() ? QString()
                      : date                         ? tr("A date as 2025-03-01.")
                                                     : tr("A number with a decimal point, as 12,500.75."));
    };
    connect(edit, &QLineEdit::textChanged, dialog, judge);
    connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
    connect(buttons, &QDialogButtonBox::accepted, dialog, [=] {
        if (const auto chosen = read(edit->text())) {
            take(*chosen);
            dialog->accept();
        }
    });
    judge();
    dialog->open();
}

void EffectPane::chooseHeld() {
    auto* menu = new QMenu(this);
    menu->setObjectName("holdMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    if (!m_shown) return;
    const auto hold = [this](const std::string& column, double value) {
        m_session.view()[holdKey + column] = exactText(value);
        m_session.touch();
        start();
    };
    for (const HeldValue& value : m_values) {
        const auto& inputs = m_shown->study->inputs;
        const auto input = std::find_if(inputs.begin(), inputs.end(),
                                        [&](const Input& i) { return i.name == value.column; });
        if (input == inputs.end()) continue;
        if (input->factor) {
            auto* levels = menu->addMenu(qs(value.column).replace('&', "&&"));
            for (std::size_t l = 0; l < std::min<std::size_t>(input->levels.size(), 60); ++l) {
                auto* action = levels->addAction(qs(input->levels[l]).replace('&', "&&"));
                action->setCheckable(true);
                action->setChecked(static_cast<double>(l) == value.value);
                connect(action, &QAction::triggered, this,
                        [hold, column = value.column, l] { hold(column, static_cast<double>(l)); });
            }
            continue;
        }
        connect(menu->addAction(qs(value.column + " = " + value.text + "…").replace('&', "&&")),
                &QAction::triggered, this, [this, hold, value] {
                    askHeld(value, [hold, column = value.column](double chosen) { hold(column, chosen); });
                });
    }
    menu->addSeparator();
    connect(menu->addAction(tr("Medians and most frequent levels")), &QAction::triggered, this, [this] {
        std::erase_if(m_session.view(), [](const auto& entry) { return entry.first.starts_with(holdKey); });
        m_session.touch();
        start();
    });
    menu->popup(m_hold->mapToGlobal(QPoint(0, m_hold->height())));
}

} // namespace oxgoad

#include "app/look/look_pictures.h"

#include "app/look/look_parts.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "recipe/recipe_edits.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

const Column* Looking::factor(const std::string& name, const Column* but) const {
    const Column* column = name.empty() ? nullptr : table().find(name);
    return column && column != but && column->kind() == ColumnKind::factor ? column : nullptr;
}

QString Looking::titled(const std::string& name) const {
    const auto unit = request.recipe.units.find(name);
    return unit == request.recipe.units.end() ? qs(name) : qs(name + ", " + unit->second);
}

QString Looking::unitOf(const std::string& name) const {
    const auto unit = request.recipe.units.find(name);
    return unit == request.recipe.units.end() ? QString() : " " + qs(unit->second);
}

QString Looking::targetTitle() const {
    const QString name = titled(upName());
    if (!request.up.empty() || request.against == Against::response) return name;
    return request.against == Against::predicted ? tr("predicted %1").arg(name)
                                                 : tr("residual of %1").arg(name);
}

void Looking::offer(const QString& label, const std::vector<Term>& terms) {
    if (!request.up.empty()) return;
    Recipe recipe = request.recipe;
    picture.madeOf = request.recipe;
    for (const Term& term : terms)
        recipe = withTerm(recipe, term);
    if (recipe.terms.size() > request.recipe.terms.size())
        picture.moves.push_back({label, std::move(recipe)});
}

void Looking::offerNote(const std::string& column, const QString& says) {
    NotedGoad note{column, ss(says)};
    const auto& known = request.recipe.noted;
    if (std::find(known.begin(), known.end(), note) != known.end()) return;
    picture.moves.push_back({tr("note it as a goad"), {}, std::move(note)});
}

std::vector<PlotFrame::Marks> marksOf(const Looking& look, std::span<const double> x, bool spread,
                                      const Column* colours) {
    const std::size_t levels = colours ? colours->levels().size() : 1;
    std::vector<PlotFrame::Marks> made(2 * levels); // learning and held out, level by level
    const PreparedRows& rows = *look.request.prepared;
    if (!colours) {
        made[0].x.reserve(look.scope.rows);
        made[0].y.reserve(look.scope.rows);
        made[0].rows.reserve(look.scope.rows);
    }
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (look.shown[i] == 0) continue;
        const double y = look.scope.target[i];
        if (!std::isfinite(x[i]) || !std::isfinite(y)) continue;
        const std::int32_t code = colours ? colours->codes()[i] : 0;
        if (code < 0) continue;
        PlotFrame::Marks& marks =
            made[2 * static_cast<std::size_t>(code) + (rows.parts[i] == Part::heldOut ? 1 : 0)];
        // Rows of a level are spread a little so that they do not hide each other.
        const double aside = spread ? 0.5 * (static_cast<double>((i * 2654435761U) % 1000) / 1000 - 0.5) : 0;
        marks.x.push_back(x[i] + aside);
        marks.y.push_back(y);
        marks.rows.push_back(i);
    }
    std::vector<PlotFrame::Marks> all;
    bool heldOutNamed = false;
    for (std::size_t k = 0; k < levels; ++k) {
        const QColor colour = theme::groupColour(static_cast<int>(k));
        for (const bool heldOut : {false, true}) {
            PlotFrame::Marks& marks = made[2 * k + (heldOut ? 1 : 0)];
            if (marks.x.empty()) continue;
            marks.mark = heldOut ? theme::Mark::heldOut : theme::Mark::learning;
            if (!colours) {
                marks.name = heldOut ? tr("held-out rows") : tr("learning rows");
            } else {
                marks.colour = colour;
                marks.name = !heldOut       ? qs(colours->levels()[k])
                             : heldOutNamed ? QString()
                                            : tr("held-out rows");
                heldOutNamed = heldOutNamed || heldOut;
            }
            all.push_back(std::move(marks));
        }
    }
    return all;
}

Qt::PenStyle groupStyle(int index) {
    static constexpr std::array styles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine,
                                       Qt::DashDotDotLine};
    return styles[static_cast<std::size_t>(index) % styles.size()];
}

namespace {

/// Places along a range, and what is read there, back from the logarithms the readings were made of.
template <class Height, class Half>
void sample(PlotFrame::Line& line, PlotFrame::Band& band, double low, double high, LookScales scales,
            int steps, Height&& height, Half&& half) {
    const auto across = [&](double v) { return scales.logX ? std::exp(v) : v; };
    const auto up = [&](double v) { return scales.logY ? std::exp(v) : v; };
    for (int k = 0; k <= steps; ++k) {
        const double at = k == steps ? high : low + (high - low) * k / steps;
        line.x.push_back(across(at));
        line.y.push_back(up(height(at)));
        band.x.push_back(across(at));
        band.low.push_back(up(height(at) - half(at)));
        band.high.push_back(up(height(at) + half(at)));
    }
}

} // namespace

void addLine(PlotFrame::Content& content, const GroupLine& line, LookScales scales, const QString& label,
             int index) {
    const QColor colour = theme::groupColour(index);
    PlotFrame::Line drawn{{}, {}, {}, colour, groupStyle(index), label, 2};
    PlotFrame::Band band{{}, {}, {}, colour};
    const double t = studentQuantile(0.95, static_cast<double>(line.rows) - 2);
    sample(
        drawn, band, line.low, line.high, scales, 40, [&](double x) { return line.at(x); },
        [&](double x) { return t * line.errorAt(x); });
    content.lines.push_back(std::move(drawn));
    content.bands.push_back(std::move(band));
}

void addCurve(PlotFrame::Content& content, const Curve& curve, LookScales scales, const QString& label,
              const QColor& colour, Qt::PenStyle style) {
    PlotFrame::Line drawn{{}, {}, {}, colour, style, label, 2.2};
    PlotFrame::Band band{{}, {}, {}, colour};
    sample(
        drawn, band, curve.low, curve.high, scales, 120, [&](double x) { return curve.at(x); },
        [&](double x) { return 1.96 * curve.errorAt(x); });
    content.lines.push_back(std::move(drawn));
    content.bands.push_back(std::move(band));
}

void shareRanges(std::vector<LookPicture::Panel>& panels, LookScales scales, bool across, bool up) {
    std::array<double, 4> range{INFINITY, -INFINITY, INFINITY, -INFINITY};
    const auto take = [&](const std::vector<double>& values, std::size_t at, bool log) {
        for (const double v : values)
            if (std::isfinite(v) && (!log || v > 0)) {
                range[at] = std::min(range[at], v);
                range[at + 1] = std::max(range[at + 1], v);
            }
    };
    for (const auto& panel : panels) {
        for (const auto& m : panel.content.marks) {
            take(m.x, 0, scales.logX);
            take(m.y, 2, scales.logY);
        }
        for (const auto& l : panel.content.lines) {
            take(l.x, 0, scales.logX);
            take(l.y, 2, scales.logY);
        }
    }
    const auto padded = [](double low, double high, bool log) -> std::optional<std::array<double, 2>> {
        if (!(low < high)) return std::nullopt;
        if (!log) return std::array{low - 0.04 * (high - low), high + 0.04 * (high - low)};
        const double factor = std::pow(high / low, 0.04);
        return std::array{low / factor, high * factor};
    };
    for (auto& panel : panels) {
        if (across) panel.content.xRange = padded(range[0], range[1], scales.logX);
        if (up) panel.content.yRange = padded(range[2], range[3], scales.logY);
    }
}

QString roundText(double value) {
    if (value == 0) return "0";
    const double unit = std::pow(10, std::floor(std::log10(std::fabs(value))) - 2);
    return qs(readableText(std::isnormal(unit) ? std::round(value / unit) * unit : value, 3));
}

QString probabilitySaid(double p) {
    const QString text = qs(probabilityText(p));
    return text.startsWith('<') ? text : "= " + text;
}

namespace {

/// Which rows are looked at, and which of them may be drawn.
void chooseRows(Looking& look) {
    const LookRequest& request = look.request;
    look.scope = lookScope(request.recipe, *request.prepared, request.evidence.get(), request.against);
    if (!request.up.empty()) lookAtColumn(look.scope, look.table().at(request.up, request.recipe.rows.file));
    const PreparedRows& rows = *request.prepared;
    const bool some = request.only && request.only->size() == rows.parts.size();
    look.shown.resize(rows.parts.size());
    for (std::size_t i = 0; i < look.shown.size(); ++i)
        look.shown[i] =
            rows.leftOut[i] == 0 && rows.parts[i] != Part::test && (!some || (*request.only)[i] != 0);
    if (!some) return;
    keepOnly(look.scope, *request.only);
    look.picture.sentences << tr("Only the %1 marked are looked at.")
                                  .arg(qs(plural(look.scope.rows, "learning row", "learning rows")));
}

} // namespace

std::optional<LookPicture> lookRows(const LookRequest& request) {
    constexpr std::size_t many = 200000;
    const Column* column = request.prepared->table.find(request.column);
    if (request.view != "against" || request.prepared->table.rows() < many || !column ||
        column->kind() == ColumnKind::factor || !request.panels.empty())
        return std::nullopt;
    Looking look{request, {}, {}, {}};
    try {
        chooseRows(look);
    } catch (const Error&) { // the whole picture says why
        return std::nullopt;
    }
    PlotFrame::Content& content = look.picture.content;
    content.xTitle = look.titled(column->name());
    content.yTitle = look.targetTitle();
    content.xIsDate = column->kind() == ColumnKind::date;
    content.xLog = request.scales.logX;
    content.yLog = request.scales.logY;
    content.marks = marksOf(look, NumberView(*column).values(), false, look.factor(request.group, column));
    content.summary = tr("Reading lines and curves…");
    look.picture.sentences << content.summary;
    return std::move(look.picture);
}

LookPicture lookPicture(const LookRequest& request, Progress& progress) {
    Looking look{request, {}, {}, {}};
    try {
        chooseRows(look);
        if (request.view == "spread out")
            drawDistribution(look, progress);
        else if (request.view == "over time" || request.view == "season")
            drawCourse(look, request.view == "season");
        else if (request.view == "map")
            drawMap(look);
        else
            drawAgainst(look, progress);
    } catch (const Error& error) {
        look.picture = {};
        look.picture.content.summary = qs(error.what());
    }
    if (look.picture.content.summary.isEmpty())
        look.picture.content.summary =
            tr("%1 against %2. ").arg(look.picture.content.yTitle, look.picture.content.xTitle) +
            look.picture.sentences.join(' ');
    return std::move(look.picture);
}

} // namespace oxgoad

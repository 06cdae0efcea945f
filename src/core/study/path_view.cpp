#include "study/path_view.h"

#include "base/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

double gapOf(const PathPlace& place) {
    return place.error / place.learning - 1;
}

std::string unitOf(const std::string& unit) {
    return unit.empty() ? "" : " " + unit.substr(0, unit.find(' '));
}

} // namespace

std::size_t PathView::nearest(double penalty) const {
    std::size_t best = 0;
    double least = 1e308;
    for (std::size_t k = 0; k < places.size(); ++k) {
        const double own = std::max(places[k].penalty, 1e-300);
        const double away = std::fabs(std::log(own) - std::log(std::max(penalty, 1e-300)));
        if (away < least) {
            least = away;
            best = k;
        }
    }
    return best;
}

std::vector<double> sharesOf(const PenaltySearch& search) {
    std::vector<double> shares;
    for (const PenaltyPoint& point : search.points)
        if (std::find(shares.begin(), shares.end(), point.l1Share) == shares.end())
            shares.push_back(point.l1Share);
    return shares;
}

PathView pathView(const PenaltySearch& search, double l1Share) {
    PathView view;
    view.l1Share = l1Share;
    view.columns = search.columns.size();
    view.judgedBy = search.judgedBy;
    std::vector<const PenaltyPoint*> points;
    for (const PenaltyPoint& point : search.points)
        if (point.l1Share == l1Share) points.push_back(&point);
    std::sort(points.begin(), points.end(),
              [](const auto* a, const auto* b) { return a->penalty > b->penalty; });
    for (const PenaltyPoint* point : points) {
        PathPlace place;
        place.penalty = point->penalty;
        place.error = std::sqrt(point->meanOfFoldMse);
        place.low = std::sqrt(std::max(0.0, point->meanOfFoldMse - point->standardError));
        place.high = std::sqrt(point->meanOfFoldMse + point->standardError);
        place.learning = std::sqrt(point->learningMse);
        place.relaxed = std::sqrt(point->relaxedMse);
        place.kept = point->kept;
        view.places.push_back(place);
    }
    for (std::size_t j = 0; j < search.columns.size(); ++j) {
        PathLine line;
        line.name = search.columns[j];
        if (j < search.terms.size()) line.term = search.terms[j];
        line.enters = points.size();
        for (std::size_t k = 0; k < points.size(); ++k) {
            const double b = points[k]->coefficients[static_cast<Eigen::Index>(j)];
            if (b != 0 && line.enters == points.size()) line.enters = k;
            line.natural.push_back(b);
            line.perDeviation.push_back(j < search.deviations.size() ? b * search.deviations[j] : b);
            if (!points[k]->keptShare.empty())
                line.keptShare.push_back(static_cast<double>(points[k]->keptShare[j]));
        }
        if (line.enters < points.size()) view.lines.push_back(std::move(line));
    }
    std::stable_sort(view.lines.begin(), view.lines.end(),
                     [](const PathLine& a, const PathLine& b) { return a.enters < b.enters; });
    view.smallest = view.oneError = view.places.size();
    for (std::size_t k = 0; k < view.places.size(); ++k)
        if (!std::isnan(view.places[k].error) &&
            (view.smallest == view.places.size() ||
             points[k]->meanOfFoldMse < points[view.smallest]->meanOfFoldMse))
            view.smallest = k;
    if (view.smallest == view.places.size()) return view;
    const double limit = points[view.smallest]->meanOfFoldMse + points[view.smallest]->standardError;
    view.oneError = view.smallest;
    while (view.oneError > 0 && points[view.oneError - 1]->meanOfFoldMse <= limit)
        --view.oneError;
    // As the rule has it: the largest penalty within, wherever it lies.
    for (std::size_t k = 0; k < view.oneError; ++k)
        if (points[k]->meanOfFoldMse <= limit) {
            view.oneError = k;
            break;
        }
    return view;
}

std::string placeSentence(const PathView& view, std::size_t at, const std::string& unit) {
    if (at >= view.places.size()) return {};
    const PathPlace& place = view.places[at];
    std::string text = "Penalty " + readableText(place.penalty, 3) + " keeps " + countText(place.kept) +
                       " of " + plural(view.columns, "column", "columns");
    if (!std::isnan(place.error)) {
        text += ": typically off by " + readableText(place.error, 4) + " ± " +
                readableText((place.high - place.low) / 2, 2) + unitOf(unit) + " over " + view.judgedBy;
        if (!std::isnan(place.relaxed))
            text += " (least squares of what is kept " + readableText(place.relaxed, 4) + ")";
    }
    if (!std::isnan(place.learning)) {
        text += std::isnan(place.error) ? ": off by " : ", ";
        text += readableText(place.learning, 4) + " on learning rows";
        if (!std::isnan(place.error)) text += ", a gap of " + readableText(100 * gapOf(place), 2) + " %";
    }
    return text + ".";
}

std::string simplerSentence(const PathView& view, const std::string& unit) {
    if (view.smallest >= view.places.size() || view.oneError == view.smallest) return {};
    const PathPlace &best = view.places[view.smallest], &simple = view.places[view.oneError];
    std::string text = "The simpler one keeps " + countText(simple.kept) + " instead of " +
                       plural(best.kept, "column", "columns") + ": it costs " +
                       readableText(simple.error - best.error, 2) + unitOf(unit) + " (" +
                       readableText(100 * (simple.error / best.error - 1), 2) + " %) in error";
    if (!std::isnan(simple.learning) && !std::isnan(best.learning))
        text += " and takes the gap from " + readableText(100 * gapOf(best), 2) + " % to " +
                readableText(100 * gapOf(simple), 2) + " %";
    return text + ".";
}

} // namespace oxgoad

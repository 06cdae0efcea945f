#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "look/places.h"

#include <cmath>

namespace oxgoad {

void checkSpace(const CheckContext& context, Findings& findings) {
    const std::string name = "dependence in space";
    const std::string source = "Moran 1950; Cliff and Ord 1981, §1.5";
    const Column* longitude = coordinateOf(context.table, "lon");
    const Column* latitude = coordinateOf(context.table, "lat");
    if (!longitude || !latitude) {
        findings.readings.push_back(
            noReading(name, "there are no columns whose names begin with lon and lat, in degrees"));
        return;
    }
    std::vector<double> errors(context.table.rows(), nan);
    std::vector<std::uint8_t> used(context.table.rows(), 0);
    for (std::size_t i = 0; i < context.errorRows.size(); ++i) {
        errors[context.errorRows[i]] = context.errors[i];
        used[context.errorRows[i]] = 1;
    }
    const Places places = placesOf(longitude->numbers(), latitude->numbers(), errors, used);
    const auto found = moran(places.places);
    if (!found) {
        findings.readings.push_back(noReading(name, "fewer than eight places, or none differ"));
        return;
    }
    const double limit = context.limitOf(name, pLimit);
    findings.readings.push_back(
        madeReading(name, found->i, limit, found->p,
                    "Moran's I of the mean errors of " + plural(found->places, "place", "places") +
                        ", each with its 5 nearest; expected " + readableText(found->expected, 2) + " ± " +
                        readableText(found->deviation, 2) + " under randomisation, p two-sided",
                    source));
    if (!(found->p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = found->i > found->expected ? "Places near each other have like errors"
                                            : "Places near each other have errors of other signs";
    goad.reading = "Moran's I " + readableText(found->i, 3) + " of " +
                   plural(found->places, "place", "places") + ", p " + probabilityText(found->p) +
                   "; something that changes over the map is not in the model";
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = longitude->name();
    goad.size = std::fabs(found->i);
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    goad.moves.push_back(
        {.label = "add the coordinates",
         .edit = [a = longitude->name(), b = latitude->name()](Recipe& recipe, const std::string&) {
             recipe = withTerm(withTerm(recipe, plainTerm(a)), plainTerm(b));
         }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad

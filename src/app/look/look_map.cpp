// Rows on the ground.
#include "app/look/look_parts.h"
#include "base/text.h"
#include "look/places.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

namespace {

/// From pale to dark, the last darker in lightness too, so that the order shows without colour.
const std::array colours{QColor(0xD8, 0xB3, 0x6A, 190), QColor(0xC8, 0x8D, 0x6A, 190),
                         QColor(0x9A, 0x6A, 0x86, 190), QColor(0x5B, 0x5A, 0x96, 190),
                         QColor(0x1F, 0x2A, 0x2C, 210)};

} // namespace

void drawMap(Looking& look) {
    PlotFrame::Content& content = look.picture.content;
    const Column* longitude = coordinateOf(look.table(), "lon");
    const Column* latitude = coordinateOf(look.table(), "lat");
    if (!longitude || !latitude) {
        content.summary = tr("There are no columns whose names begin with lon and lat, in degrees.");
        return;
    }
    const Places places =
        placesOf(longitude->numbers(), latitude->numbers(), look.scope.target, look.scope.used);
    if (places.outOfRange > 0)
        look.picture.sentences
            << tr("%1 with a longitude beyond ±180 or a latitude beyond ±90 cannot be drawn.")
                   .arg(qs(plural(places.outOfRange, "row", "rows")));
    const auto classes = placeClasses(places.places, colours.size());
    if (classes.empty()) {
        content.summary = tr("No learning row has a place on the ground and a value.");
        return;
    }
    content.xTitle = tr("%1, degrees east").arg(qs(longitude->name()));
    content.yTitle = tr("%1, degrees north").arg(qs(latitude->name()));
    content.proportion = places.proportion;
    std::vector<std::vector<std::size_t>> rowsOfPlace(places.places.size());
    for (std::size_t i = 0; i < places.placeOfRow.size(); ++i)
        if (places.placeOfRow[i] >= 0)
            rowsOfPlace[static_cast<std::size_t>(places.placeOfRow[i])].push_back(i);
    std::size_t known = 0;
    for (std::size_t c = 0; c < classes.size(); ++c) {
        PlotFrame::Marks marks{tr("%1 to %2").arg(roundText(classes[c].low), roundText(classes[c].high)),
                               theme::Mark::plain,
                               {},
                               {},
                               {},
                               colours[c + (colours.size() - classes.size()) / 2]};
        for (const std::size_t p : classes[c].places) {
            marks.x.push_back(places.places[p].longitude);
            marks.y.push_back(places.places[p].latitude);
            marks.rows.push_back(places.places[p].first);
            marks.members.push_back(rowsOfPlace[p]);
        }
        known += marks.x.size();
        content.marks.push_back(std::move(marks));
    }
    look.picture.sentences
        << tr("%1 by their mean of %2; a click selects the first of a place's rows, a box marks all of them.")
               .arg(qs(plural(known, "place", "places")), look.targetTitle());
    if (const auto m = moran(places.places)) {
        look.picture.sentences << tr("%1: Moran's I %2 against %3 expected, p %4.")
                                      .arg(m->p < 0.05 ? (m->i > m->expected
                                                              ? tr("Near places are alike")
                                                              : tr("Near places differ more than far ones"))
                                                       : tr("Near places are no more alike than far ones"),
                                           qs(readableText(m->i, 2)), qs(readableText(m->expected, 2)),
                                           probabilitySaid(m->p));
        if (m->p < 0.05)
            look.offerNote(longitude->name(), tr("Near places %1 (Moran's I %2, p %3)")
                                                  .arg(m->i > m->expected ? tr("are alike") : tr("differ"),
                                                       qs(readableText(m->i, 2)), probabilitySaid(m->p)));
    }
    look.offer(tr("add %1 and %2 to the terms").arg(qs(longitude->name()), qs(latitude->name())),
               {plainTerm(longitude->name()), plainTerm(latitude->name())});
}

} // namespace oxgoad

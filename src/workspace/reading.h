#pragma once
// The fit in words, for the line of the term table that is chosen.
#include "workspace/grids.h"

#include <QStringList>

namespace oxgoad {

/// What the chosen line says, a paragraph each: the coefficient, or the term as a whole with its reference
/// level and its slopes by level.
QStringList readingOf(const Session& session, const TermLine& line);
/// The equation, and one for each level of a factor with slopes of its own when `factor` names one.
QString equationFor(const Session& session, const std::string& factor);

} // namespace oxgoad

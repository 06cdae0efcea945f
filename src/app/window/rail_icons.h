#pragma once
#include <QIcon>
#include <QString>

namespace oxgoad {

/// The drawn sign of a station: "data", "look", "fit", "check", "compare", "forecast".
QIcon stationIcon(const QString& station);

} // namespace oxgoad

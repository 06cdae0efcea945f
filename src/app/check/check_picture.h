#pragma once
#include "app/check/check_station.h"

namespace oxgoad {

/// What a picture of residuals is asked for.
struct CheckRequest {
    std::shared_ptr<const Evidence> evidence;
    std::shared_ptr<const PreparedRows> prepared;
    std::shared_ptr<const StudyRows> rows;
    Recipe recipe;
    ResidualRequest residuals;
    /// Name and unit of the column along the plot, unit of the response.
    QString acrossTitle, unit;
    /// Panels, or colours, by a factor; empty for none.
    std::string group;
    bool groupAsPanels = false;
    /// What stands beside it.
    enum class Beside { distribution, quantiles, calibration } beside = Beside::distribution;
};

/// Throws Stopped.
CheckPicture checkPicture(const CheckRequest& request, Progress& progress);

} // namespace oxgoad

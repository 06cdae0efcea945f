#pragma once
// A program in the predictive model markup language, version 4.4, and back.
#include "hand_on/program.h"

#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// Every assignment a derived field, the model a regression on the last of them; `lower` and `upper` are
/// derived fields handed out beside the prediction. Dates are days since 1970-01-01.
std::string pmmlOf(const Program& program);

/// Reads what pmmlOf wrote and works it out for rows of its fields, by name and text; NaN where there is no
/// prediction. Errors: badProject.
std::vector<double> runPmml(std::string_view pmml, const Program& program,
                            const std::vector<ProgramRow>& rows);

} // namespace oxgoad

#include "check/checks.h"

namespace oxgoad {

Findings runChecks(const CheckContext& context) {
    Findings findings;
    for (const auto check : {checkReach, checkOutlyingRows, checkCollinearity, checkSpread, checkOverfit,
                             checkMissingValues, checkMisfits, checkRareLevels})
        check(context, findings);
    return findings;
}

} // namespace oxgoad

#include "resample/strata.h"

#include "table/summary.h"

#include <algorithm>
#include <map>
#include <string>

namespace oxgoad {

std::vector<std::uint32_t> stratumOf(const Column& column, int bands, std::size_t& count) {
    std::vector<std::uint32_t> stratum(column.size(), 0);
    if (column.kind() == ColumnKind::factor) {
        for (std::size_t i = 0; i < stratum.size(); ++i)
            stratum[i] = static_cast<std::uint32_t>(column.codes()[i] + 1);
        count = column.levels().size() + 1;
        return stratum;
    }
    if (column.kind() == ColumnKind::text || bands == 0) {
        std::map<std::string, std::uint32_t> places;
        for (std::size_t i = 0; i < stratum.size(); ++i)
            if (!column.isMissing(i))
                stratum[i] = places.emplace(column.cellText(i), static_cast<std::uint32_t>(places.size() + 1))
                                 .first->second;
        count = places.size() + 1;
        return stratum;
    }
    std::vector<double> sorted;
    for (std::size_t i = 0; i < stratum.size(); ++i)
        if (!column.isMissing(i)) sorted.push_back(column.asNumber(i));
    std::sort(sorted.begin(), sorted.end());
    std::vector<double> limits;
    for (int b = 1; b < bands && !sorted.empty(); ++b)
        limits.push_back(quantileOfSorted(sorted, static_cast<double>(b) / bands));
    for (std::size_t i = 0; i < stratum.size(); ++i)
        if (!column.isMissing(i))
            stratum[i] = static_cast<std::uint32_t>(
                std::upper_bound(limits.begin(), limits.end(), column.asNumber(i)) - limits.begin() + 1);
    count = static_cast<std::size_t>(bands) + 1;
    return stratum;
}

} // namespace oxgoad

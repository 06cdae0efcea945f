#include "recipe/goad.h"

#include <map>

namespace oxgoad {

void tellFamiliesTogether(std::vector<Goad>& goads, std::size_t from) {
    std::map<std::string, std::string> leads; // family → the key of its first
    for (std::size_t i = from; i < goads.size(); ++i) {
        Goad& goad = goads[i];
        if (goad.accepted || goad.family.empty() || !goad.under.empty()) continue;
        const auto [lead, isNew] = leads.try_emplace(goad.family, goad.key);
        if (!isNew) goad.under = lead->second;
    }
}

} // namespace oxgoad

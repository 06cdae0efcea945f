// Writes the demo rows: a network of cold-storage depots that does not exist. Everything planted here is
// listed in demo/README.md; the numbers of both must agree.
#include "base/file.h"
#include "base/random.h"
#include "base/text.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <iostream>
#include <numbers>
#include <string>
#include <vector>

using namespace oxgoad;

namespace {

constexpr std::array places{
    "Aldermoor", "Brackwater", "Cinder Quay", "Dunlin Head",  "Eastfold",        "Fennbridge", "Garrow",
    "Hexley",    "Inchmarsh",  "Jarrowby",    "Kestrel Lock", "Larkhythe",       "Mossend",    "Netherby",
    "Otterwick", "Pellgate",   "Quarrend",    "Ravenstow",    "Saltmere",        "Thornwade",  "Ulverby",
    "Vennholm",  "Wickering",  "Yarrowton",   "Ashdyke",      "Bitterne Sluice", "Coldharrow", "Drayford",
    "Elmsea",    "Frostholm",  "Greywater",   "Holmsund",     "Icknell",         "Kelder",     "Lowmarket",
    "Millrace",  "Northwold",  "Oakstrand",   "Pinfold",      "Redmire"};
constexpr std::array newPlaces{"Gannet Wharf", "Hollin Cross"};
constexpr std::array monthNames{"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
constexpr std::array regions{"north", "east", "south", "islands"};
constexpr std::array contracts{"spot", "annual", "anchor"};

struct Depot {
    std::string name;
    std::string region;
    std::string contract;
    double pallets = 0;
    double baseRate = 0;
    double occupancy = 0;
    double competitor = 0;
    double longitude = 0;
    double latitude = 0;
    int opened = 0;
};

struct Climate { // one value a month, the same for all depots
    double temperature = 0;
    double energy = 0;
};

struct DepotMonth {
    const Depot* depot = nullptr;
    int month = 0; // 0 = January 2023
    double occupancy = 0;
    double rate = 0;
    double energy = 0;
    double temperature = 0;
    double dockHours = 0;
    double promotion = 0;
    std::string contract;
    std::string cooling;
    double revenue = 0;
};

std::string fixedText(double value, int decimals) {
    std::array<char, 64> buffer{};
    std::snprintf(buffer.data(), buffer.size(), "%.*f", decimals, value);
    return buffer.data();
}

std::string monthText(int month) {
    return dateText(*daysFromCivil(2023 + month / 12, static_cast<unsigned>(month % 12 + 1), 1));
}

/// The planted truth, EUR a month.
double trueMean(const DepotMonth& m) {
    const double saturation = 110000 * (1 - std::exp(-m.occupancy / 30));
    const double season = 14000 * std::sin(2 * std::numbers::pi * (m.month % 12 - 3) / 12);
    const double slope = m.contract == "spot" ? 3900 : m.contract == "annual" ? 5800 : 6900;
    const double level = m.contract == "spot" ? 0 : m.contract == "annual" ? -33000 : -45000;
    return -40000 + 14.0 * m.depot->pallets + level + slope * m.rate + saturation + season - 120 * m.energy +
           250 * m.temperature + 900 * m.promotion;
}

double trueSpread(const DepotMonth& m) {
    return 3000 + 1.1 * m.depot->pallets;
}

std::vector<Depot> makeDepots(RandomStream& random) {
    std::vector<Depot> depots;
    for (std::size_t i = 0; i < places.size() + newPlaces.size(); ++i) {
        Depot d;
        d.name = i < places.size() ? places[i] : newPlaces[i - places.size()];
        d.region = regions[i % 4];
        // No anchor contract on the islands.
        d.contract = contracts[d.region == "islands" ? random.below(2) : random.below(3)];
        d.pallets = 20 * std::round((1800 + 16000 * std::pow(random.uniform(), 1.6)) / 20);
        const double low = d.contract == "spot" ? 17 : d.contract == "annual" ? 15 : 13.5;
        const double width = d.contract == "spot" ? 10.5 : d.contract == "annual" ? 8 : 5;
        d.baseRate = low + width * random.uniform();
        d.occupancy = 34 + 56 * random.uniform();
        d.competitor = 2 + 60 * random.uniform() * random.uniform();
        d.longitude = 5.2 + 4.1 * random.uniform() + (d.region == "east" ? 2.5 : 0);
        d.latitude = 50.1 + 2.2 * random.uniform() +
                     (d.region == "north"     ? 2.1
                      : d.region == "islands" ? 3.4
                                              : 0);
        d.opened = 1986 + static_cast<int>(random.below(35));
        depots.push_back(d);
    }
    return depots;
}

std::vector<Climate> makeClimate(RandomStream& random, int months) {
    std::vector<Climate> climate;
    for (int m = 0; m < months; ++m) {
        Climate c;
        c.temperature =
            9.5 + 8.5 * std::sin(2 * std::numbers::pi * (m % 12 - 3.4) / 12) + 1.1 * random.normal();
        c.energy = 128 - 3.1 * c.temperature + 3.4 * random.normal();
        climate.push_back(c);
    }
    return climate;
}

DepotMonth makeMonth(const Depot& depot, int month, const Climate& climate, RandomStream& random) {
    DepotMonth m;
    m.depot = &depot;
    m.month = month;
    m.contract = depot.contract;
    m.cooling = depot.opened < 2005 ? "ammonia" : "carbon dioxide";
    m.rate = std::round(100 * (depot.baseRate * (1 + 0.0032 * month) + 0.7 * random.normal())) / 100;
    m.occupancy = std::clamp(
        std::round(10 * (depot.occupancy + 6 * std::sin(2 * std::numbers::pi * (month % 12 - 4) / 12) +
                         5 * random.normal())) /
            10,
        8.0, 99.5);
    m.temperature = std::round(10 * (climate.temperature + (depot.region == "islands" ? -1.0 : 0.4) +
                                     0.8 * random.normal())) /
                    10;
    m.energy = std::round(10 * (climate.energy + 2.2 * random.normal())) / 10;
    m.dockHours = std::round(0.031 * depot.pallets * (0.85 + 0.3 * random.uniform()) + 90);
    m.promotion =
        random.uniform() < 0.45 ? 0 : std::round(100 * 9 * random.uniform() * random.uniform()) / 100;
    return m;
}

std::string header(bool withRevenue) {
    return std::string("depot,month,calendar_month,region,contract,cooling,places,occupancy,list_rate,energy_"
                       "price,outside_temperature,"
                       "dock_hours,promotion,competitor_distance,opened,longitude,latitude") +
           (withRevenue ? ",revenue\n" : "\n");
}

std::string line(const DepotMonth& m, const std::string& occupancy, const std::string& energy,
                 const std::string& promotion) {
    const Depot& d = *m.depot;
    std::string out = d.name + "," + monthText(m.month) + "," +
                      monthNames[static_cast<std::size_t>(m.month % 12)] + "," + d.region + "," + m.contract +
                      "," + m.cooling;
    for (const std::string& cell :
         {fixedText(d.pallets, 0), occupancy, fixedText(m.rate, 2), energy, fixedText(m.temperature, 1),
          fixedText(m.dockHours, 0), promotion, fixedText(d.competitor, 1), std::to_string(d.opened),
          fixedText(d.longitude, 4), fixedText(d.latitude, 4)})
        out += "," + cell;
    return out;
}

std::string depotMonths(const std::vector<Depot>& depots, const std::vector<Climate>& climate) {
    RandomStream random(20, "depot months");
    RandomStream gaps(20, "gaps");
    std::string out = header(true);
    for (std::size_t d = 0; d < places.size(); ++d) {
        for (int month = 0; month < 36; ++month) {
            DepotMonth m = makeMonth(depots[d], month, climate[static_cast<std::size_t>(month)], random);
            if (depots[d].name == "Kelder" && month >= 20 && month < 25) m.cooling = "glycol"; // five rows
            m.revenue = std::round(trueMean(m) + trueSpread(m) * random.normal());
            if (depots[d].name == "Cinder Quay" && month == 16) { // closed after a fire, May 2024
                m.occupancy = 41.2;
                m.revenue = 2150;
            }
            if (depots[d].name == "Dunlin Head" && month == 20) m.rate *= 10; // mistyped, September 2024
            const double gap = gaps.uniform();
            const bool noOccupancy = gap < 0.012;
            const bool noEnergy = gap > 0.99;
            const bool noPromotion = gap > 0.5 && gap < 0.508;
            out +=
                line(m, noOccupancy ? "?" : fixedText(m.occupancy, 1), noEnergy ? "" : fixedText(m.energy, 1),
                     noPromotion ? "?" : fixedText(m.promotion, 2)) +
                "," + fixedText(m.revenue, 0) + "\n";
        }
    }
    return out;
}

std::string plan(const std::vector<Depot>& depots, const std::vector<Climate>& climate) {
    RandomStream random(20, "plan");
    std::string out = header(false);
    for (const Depot& depot : depots) {
        for (int month = 36; month < 48; ++month) {
            DepotMonth m = makeMonth(depot, month, climate[static_cast<std::size_t>(month)], random);
            if (depot.name == "Eastfold")
                m.rate = std::round(100 * (34.5 + 0.32 * (month - 36))) / 100; // up to 38.02
            if (depot.name == "Hexley") m.contract = "anchor"; // on the islands, never seen there
            out +=
                line(m, fixedText(m.occupancy, 1), fixedText(m.energy, 1), fixedText(m.promotion, 2)) + "\n";
        }
    }
    return out;
}

std::string trailerQuotes() {
    RandomStream random(20, "trailer quotes");
    // Effect of the make on ln price; the last ones are rare.
    constexpr std::array<std::pair<const char*, double>, 12> makes{{{"Norvik", 0.12},
                                                                    {"Talbrand", 0.0},
                                                                    {"Kessler & Roe", 0.08},
                                                                    {"Ostmark", -0.10},
                                                                    {"Polaris Vans", -0.05},
                                                                    {"Brenna", 0.03},
                                                                    {"Isfjell", 0.15},
                                                                    {"Caldo", -0.18},
                                                                    {"Vellmar", 0.01},
                                                                    {"Dromm", -0.07},
                                                                    {"Ustad", 0.20},
                                                                    {"Zenker", -0.25}}};
    std::string out =
        "make,age,kilometres,length,axles,cooling_hours,doors,condition,region,warranty_months,price\n";
    constexpr std::array conditions{"worn", "fair", "good", "as new"};
    for (int i = 0; i < 3000; ++i) {
        const auto make = static_cast<std::size_t>(std::min(11.0, 12 * std::pow(random.uniform(), 2.4)));
        const double age = std::round(10 * 14 * std::pow(random.uniform(), 1.3)) / 10;
        const double kilometres = std::round((25 + 62 * age) * (0.6 + 0.8 * random.uniform()));
        const double length = std::array{7.3, 10.2, 13.6, 13.6, 13.6}[random.below(5)];
        const double hours = std::round(kilometres * (9 + 6 * random.uniform()));
        const auto condition =
            static_cast<std::size_t>(std::clamp(3.2 - age / 4 + 0.8 * random.normal(), 0.0, 3.0));
        const double warranty = age < 2 ? 6 * static_cast<double>(random.below(5)) : 0;
        const double logPrice = 10.3 - 0.085 * age - 0.00012 * kilometres + 0.055 * (length - 10) +
                                makes[make].second + 0.11 * static_cast<double>(condition) +
                                0.004 * warranty + (age > 9 ? -0.15 : 0) + 0.16 * random.normal();
        out += std::string(makes[make].first) + "," + fixedText(age, 1) + "," +
               fixedText(1000 * kilometres, 0) + "," + fixedText(length, 1) + "," +
               (length > 12 ? "3" : "2") + "," + fixedText(hours, 0) + "," +
               (random.below(3) == 0 ? "side" : "rear") + "," + conditions[condition] + "," +
               regions[random.below(4)] + "," + fixedText(warranty, 0) + "," +
               fixedText(50 * std::round(std::exp(logPrice) / 50), 0) + "\n";
    }
    return out;
}

/// What depots spent on repairs of their cooling plant, month by month: often nothing, then a skewed amount.
std::string repairs() {
    RandomStream random(20, "repairs");
    constexpr std::array plants{"piston", "screw", "scroll"};
    constexpr std::array<double, 3> more{0.9, 0.0, -0.4}, dearer{0.0, 0.45, 0.1};
    std::string out = "depot_number,month,plant,plant_age,places,running_hours,repairs\n";
    for (int depot = 1; depot <= 40; ++depot) {
        const auto plant = static_cast<std::size_t>(random.below(3));
        const double begun = std::round(10 * 18 * random.uniform()) / 10;
        const double places = std::round(1500 + 8500 * random.uniform());
        for (int month = 0; month < 36; ++month) {
            const double age = begun + month / 12.0;
            const double hours = std::round(380 + 300 * random.uniform());
            const double chance =
                1 / (1 + std::exp(-(-2.2 + 0.13 * age + more[plant] + 0.002 * (hours - 530))));
            const double mean = std::exp(6.4 + 0.05 * age + dearer[plant] + 0.00012 * places);
            double amount = 0; // gamma of shape 2: the sum of two exponentials
            for (int k = 0; k < 2; ++k)
                amount -= mean / 2 * std::log(1 - random.uniform());
            const bool any = random.uniform() < chance;
            out += std::to_string(depot) + "," + std::to_string(2023 + month / 12) + "-" +
                   (month % 12 < 9 ? "0" : "") + std::to_string(month % 12 + 1) + "-01," + plants[plant] +
                   "," + fixedText(age, 1) + "," + fixedText(places, 0) + "," + fixedText(hours, 0) + "," +
                   (any ? fixedText(amount, 2) : "0") + "\n";
        }
    }
    return out;
}

} // namespace

int main(int argc, char** argv) {
    if (argc != 2) {
        std::cerr << "usage: oxgoad-demo-rows FOLDER\n";
        return 2;
    }
    try {
        const std::filesystem::path folder = argv[1];
        std::filesystem::create_directories(folder);
        RandomStream random(20, "depots");
        const auto depots = makeDepots(random);
        RandomStream weather(20, "climate");
        const auto climate = makeClimate(weather, 48);
        replaceFile(folder / "depot_months.csv", depotMonths(depots, climate));
        replaceFile(folder / "plan.csv", plan(depots, climate));
        replaceFile(folder / "trailer_quotes.csv", trailerQuotes());
        replaceFile(folder / "repairs.csv", repairs());
    } catch (const std::exception& error) {
        std::cerr << error.what() << "\n";
        return 2;
    }
    return 0;
}

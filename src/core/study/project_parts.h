#pragma once
// What writing and reading of projects share: names of parts, their checksums, a fit and a model as the file
// has them.
#include "study/study.h"

#include <nlohmann/json.hpp>

#include <zlib.h>

#include <array>
#include <cmath>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>

namespace oxgoad {

inline constexpr int applicationId = 0x4F584744; // "OXGD"

/// CRC-32 (ISO 3309) over the bytes of a part's values, each with its length.
class CheckSum {
public:
    /// In form 3 a value without bytes made the sum forget what came before it.
    explicit CheckSum(std::int64_t form = 5) : m_forgets(form < 4) {}
    CheckSum& add(std::span<const std::byte> bytes) {
        const std::uint64_t size = bytes.size();
        m_sum = crc32_z(m_sum, reinterpret_cast<const Bytef*>(&size), sizeof size);
        if (bytes.data())
            m_sum = crc32_z(m_sum, reinterpret_cast<const Bytef*>(bytes.data()), bytes.size());
        else if (m_forgets)
            m_sum = 0;
        return *this;
    }
    CheckSum& add(std::string_view text) { return add(std::as_bytes(std::span<const char>(text))); }
    CheckSum& add(std::int64_t number) { return add(std::to_string(number)); }
    CheckSum& add(double number) {
        return std::isnan(number) ? add(std::string_view("none"))
                                  : add(std::as_bytes(std::span<const double>(&number, 1)));
    }
    std::int64_t sum() const { return static_cast<std::int64_t>(m_sum); }

private:
    bool m_forgets;
    uLong m_sum = crc32_z(0, nullptr, 0);
};

/// Names of parts, in checks and in messages.
inline std::string columnPart(std::string_view table, std::int64_t position) {
    return "column " + std::to_string(position + 1) + " of the " + std::string(table);
}
inline std::string fitPart(std::int64_t number) {
    return "fit " + std::to_string(number);
}

template <class T> std::span<const std::byte> asBytes(std::span<const T> values) {
    return std::as_bytes(values);
}
inline std::string modelPart(std::int64_t fit) {
    return "model of fit " + std::to_string(fit);
}

inline std::string dumped(const nlohmann::json& value) {
    return value.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
}

/// A fit as the file has it.
struct StoredFit {
    std::int64_t number = 0, parent = 0;
    std::string change, recipe;
    double learningRmse = 0, heldOutRmse = 0, heldOutRmseError = 0, adjustedRSquared = 0;
    std::int64_t rowsLearning = 0;
    std::string goads;
    std::int64_t earlierRows = 0;
    /// What folds found; forms before 5 knew none.
    std::string folds{};
    /// What the analyst said of it, and how large the model is; forms before 6 knew none.
    std::string about{};

    CheckSum check(std::int64_t form) const {
        CheckSum sum = CheckSum()
                           .add(number)
                           .add(parent)
                           .add(change)
                           .add(recipe)
                           .add(learningRmse)
                           .add(heldOutRmse)
                           .add(heldOutRmseError)
                           .add(adjustedRSquared)
                           .add(rowsLearning)
                           .add(goads)
                           .add(earlierRows);
        if (form >= 5) sum.add(folds);
        return form < 6 ? sum : sum.add(about);
    }
};

/// The vectors of a study beside its text, in the order of the file's columns.
inline constexpr std::size_t modelVectors = 8;

} // namespace oxgoad

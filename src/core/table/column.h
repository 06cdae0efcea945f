#pragma once
// Immutable columns: numbers, factors, dates and text, with missing values as first-class citizens.
#include <cstdint>
#include <limits>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class ColumnKind { number, factor, date, text };

/// "number", "factor", "date", "text": the words used in recipes and in the window.
std::string_view kindName(ColumnKind kind);

/// What a column is to be read or taken as: a kind, or numbers that are dates with times ("date and time").
struct AskedKind {
    ColumnKind kind = ColumnKind::number;
    bool moments = false; ///< with the kind number only

    AskedKind() = default;
    AskedKind(ColumnKind of) : kind(of) {}
    static AskedKind ofMoments();
    /// Of its name; nothing when there is no such kind.
    static std::optional<AskedKind> named(std::string_view name);
    static std::span<const AskedKind> all();
    std::string_view name() const { return moments ? "date and time" : kindName(kind); }
    operator ColumnKind() const { return kind; }
    bool operator==(const AskedKind&) const = default;
    bool operator==(ColumnKind other) const { return kind == other; }
};

class Column;

/// The kind that columns share when one is made of them, those without any value (and null ones) passed over;
/// dates beside dates with times are dates with times, texts beside factors a factor. Numbers where there is
/// nothing, nothing where kinds differ.
std::optional<AskedKind> commonKind(std::span<const Column* const> columns);

/// Strings laid end to end; offsets[i]..offsets[i+1] is the text of row i.
struct TextCells {
    std::vector<std::uint64_t> offsets{0};
    std::string bytes;
    void add(std::string_view text) {
        bytes.append(text);
        offsets.push_back(bytes.size());
    }
};

/// One named column of n values. A value type: copies share the data, which never changes.
/// Missing is NaN in a number, code -1 in a factor, missingDay in a date, empty in text.
class Column {
public:
    static constexpr std::int32_t missingCode = -1;
    static constexpr std::int32_t missingDay = std::numeric_limits<std::int32_t>::min();

    static Column ofNumbers(std::string name, std::vector<double> values);
    /// Dates with times: numbers of days since 1970-01-01, whose texts are dates and times.
    static Column ofMoments(std::string name, std::vector<double> days);
    /// Numbers, or moments where `like` holds such.
    static Column ofNumbersLike(const Column& like, std::string name, std::vector<double> values) {
        return like.moments() ? ofMoments(std::move(name), std::move(values))
                              : ofNumbers(std::move(name), std::move(values));
    }
    /// Requires -1 <= codes[i] < levels.size(). Levels are distinct.
    static Column ofFactor(std::string name, std::vector<std::int32_t> codes,
                           std::vector<std::string> levels);
    /// Days since 1970-01-01.
    static Column ofDates(std::string name, std::vector<std::int32_t> days);
    static Column ofText(std::string name, TextCells cells);

    const std::string& name() const { return m_name; }
    ColumnKind kind() const { return m_data->kind; }
    /// Numbers that are dates with times; see ofMoments.
    bool moments() const { return m_data->moments; }
    /// kindName, or "date and time".
    std::string_view kindText() const { return asked().name(); }
    /// What would be asked for to have this column as it is.
    AskedKind asked() const { return moments() ? AskedKind::ofMoments() : AskedKind(kind()); }
    std::size_t size() const { return m_data->size; }

    /// Requires the kind to fit; an assertion otherwise.
    std::span<const double> numbers() const;
    std::span<const std::int32_t> codes() const;
    const std::vector<std::string>& levels() const;
    std::span<const std::int32_t> days() const;
    std::string_view text(std::size_t row) const;

    bool isMissing(std::size_t row) const;
    std::size_t missingCount() const { return m_data->missing; }
    /// The value as text: exact for numbers, ISO for dates and times, "" for missing.
    std::string cellText(std::size_t row) const;
    /// The cells of some rows under another name; missing where a row is below 0.
    Column picked(const std::string& name, std::span<const std::int64_t> rows) const;
    /// The value as a number for plotting and sorting: days for dates, codes for factors, NaN for
    /// missing values and text.
    double asNumber(std::size_t row) const;
    /// Index of a level, or -1.
    std::int32_t codeOf(std::string_view level) const;

    Column renamed(std::string name) const;
    /// True when both are the same values in the same place of memory: a column and its copies.
    bool sharesValues(const Column& other) const { return m_data == other.m_data; }
    /// The same values under another kind, as far as they can be read so. `lost` counts values that
    /// cannot (they become missing).
    struct Converted;
    Converted converted(AskedKind kind) const;
    /// Bytes the values take (not the names of levels).
    std::size_t valueBytes() const;

private:
    struct Data {
        ColumnKind kind = ColumnKind::number;
        std::size_t size = 0;
        std::size_t missing = 0;
        bool moments = false;
        std::vector<double> numbers;
        std::vector<std::int32_t> integers;
        std::vector<std::string> levels;
        TextCells text;
    };
    Column(std::string name, std::shared_ptr<const Data> data)
        : m_name(std::move(name)), m_data(std::move(data)) {}

    std::string m_name;
    std::shared_ptr<const Data> m_data;
};

struct Column::Converted {
    Column column;
    std::size_t lost = 0;
};

} // namespace oxgoad

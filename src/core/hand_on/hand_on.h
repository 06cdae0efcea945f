#pragma once
// What is handed on of a fit, format by format.
#include "hand_on/scored_rows.h"
#include "share/exports.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <filesystem>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// A format that a model is handed on in.
struct HandOnFormat {
    /// In the command: "sql".
    std::string_view name;
    /// The file that is written.
    std::string_view file;
    /// By whom it is for, and what it is for.
    std::string_view forWhom, says;
};
std::span<const HandOnFormat> handOnFormats();
const HandOnFormat* findHandOnFormat(std::string_view name);

/// What this model cannot do in a format, as far as it is known without writing it; empty when nothing.
std::string handOnLimit(const HandOnFormat& format, const Study& study);

struct HandedOn {
    std::string format, file;
    /// Why it was not written; empty when it was.
    std::string refused;
    /// What it cannot say though it was written: "no intervals: …"; empty.
    std::string lacks;
};

/// What is handed on. References outlive the call.
struct HandOnFrom {
    const Evidence& evidence;
    const Recipe& recipe;
    const StudyRows& rows;
    const PreparedRows& prepared;
    /// Parts of the report; all when empty.
    std::vector<std::string> reportParts{};
};

/// The scored rows with what goes along. Requires a forecast.
ScoredRows scoredOf(const HandOnFrom& from);

/// Bytes of one format. Errors: badTerm where the format cannot hold the model, with the way out. Throws
/// Stopped.
std::string handOnBytes(const HandOnFormat& format, const HandOnFrom& from, Progress& progress,
                        std::string* lacks = nullptr);
/// Of all that are asked for; what a format cannot hold is said and the others are written. Errors:
/// cannotWrite, and badTerm when none could be written.
std::vector<HandedOn> handOn(const std::filesystem::path& folder, const std::vector<std::string>& formats,
                             const HandOnFrom& from, Progress& progress);

} // namespace oxgoad

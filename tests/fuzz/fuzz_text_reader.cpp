#include "base/error.h"
#include "read/text_reader.h"

#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    oxgoad::Progress progress;
    try {
        // A copy of exact size, so that a read past the end is seen.
        const std::vector<char> bytes(data, data + size);
        const auto read = oxgoad::readTextBytes({bytes.data(), bytes.size()}, "f", {}, {1}, progress);
        for (const auto& column : read.table.columns()) {
            if (column.size() != read.table.rows()) std::abort();
            for (std::size_t i = 0; i < column.size(); ++i)
                (void)column.cellText(i);
        }
    } catch (const oxgoad::Error&) {
    }
    return 0;
}

#pragma once
// Between the core's text and Qt's.
#include <QString>
#include <string>
#include <string_view>

namespace oxgoad {

inline QString qs(std::string_view text) {
    return QString::fromUtf8(text.data(), static_cast<qsizetype>(text.size()));
}
inline std::string ss(const QString& text) {
    return text.toStdString();
}

} // namespace oxgoad

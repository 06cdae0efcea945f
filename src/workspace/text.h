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

/// For what is written between the marks of an XML text.
inline QString xmlText(QString text) {
    text.removeIf([](QChar c) { return c.unicode() < 0x20 && c != '\t' && c != '\n'; });
    return text.toHtmlEscaped();
}

} // namespace oxgoad

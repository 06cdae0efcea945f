#pragma once
// Colours, type sizes and marks, the same everywhere.
#include <QColor>
#include <QFont>
#include <QPixmap>
#include <QString>

class QApplication;

namespace oxgoad::theme {

inline const QColor page{0xF3, 0xF4, 0xF1};
inline const QColor sheet{0xFF, 0xFF, 0xFF};
inline const QColor ink{0x1F, 0x2A, 0x2C};
inline const QColor quiet{0x5E, 0x6A, 0x6B};
inline const QColor rule{0xD3, 0xD9, 0xD5};
inline const QColor learning{0x5B, 0x6F, 0xA6};
inline const QColor heldOut{0x0E, 0x6F, 0x68};
inline const QColor forecast{0x8A, 0x4B, 0x7D};
inline const QColor goad{0xB5, 0x76, 0x1B};
inline const QColor alarm{0xA3, 0x3B, 0x2C};
inline const QColor fine{0x4E, 0x7A, 0x3B};
inline const QColor focus{0x0E, 0x6F, 0x68};
inline const QColor selected{0xE4, 0xEA, 0xF3};

/// Three sizes, in pixels.
inline constexpr int smallSize = 11;
inline constexpr int textSize = 13;
inline constexpr int briefSize = 17;

/// Font, palette and style sheet of the application, and the C locale for numbers.
void apply(QApplication& application);
QFont font(int pixels, bool bold = false);
QColor tone(const QString& name);

enum class Mark { learning, heldOut, forecastInside, forecastEdge, forecastOutside, plain, diamond };
/// The mark as a small picture, drawn once.
QPixmap mark(Mark kind, const QColor& colour, qreal pixelRatio);
QColor markColour(Mark kind);
/// Colours for the lines of groups, told apart by dash pattern as well.
QColor groupColour(int index);

} // namespace oxgoad::theme

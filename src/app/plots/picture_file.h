#pragma once
// Pictures as files, which replace what was there when they are whole.
#include "workspace/text.h"

#include <QBuffer>
#include <QPainter>
#include <QPixmap>
#include <QSaveFile>
#include <QSvgGenerator>

namespace oxgoad {

inline bool replaceFile(const QString& path, const QByteArray& bytes) {
    QSaveFile file(path);
    return file.open(QIODevice::WriteOnly) && file.write(bytes) == bytes.size() && file.commit();
}

/// As PNG.
inline bool writePicture(const QString& path, const QPixmap& picture) {
    QBuffer buffer;
    buffer.open(QIODevice::WriteOnly);
    return picture.save(&buffer, "PNG") && replaceFile(path, buffer.data());
}

/// As SVG, by a painter of some kind. Names of the data are text in it, never marks.
template <class Painter = QPainter, class Draw>
bool writePicture(const QString& path, const QSize& size, const QString& title, Draw&& draw) {
    QBuffer buffer;
    buffer.open(QIODevice::WriteOnly);
    QSvgGenerator generator;
    generator.setOutputDevice(&buffer);
    generator.setSize(size);
    generator.setViewBox(QRect(QPoint(0, 0), size));
    generator.setTitle(xmlText(title)); // is written as it is
    Painter painter;
    if (!painter.begin(&generator)) return false;
    draw(painter);
    if (!painter.end()) return false;
    // What is drawn as text is escaped, but XML has no place for what steers terminals.
    buffer.buffer().removeIf([](char c) { return c >= 0 && c < 0x20 && c != '\t' && c != '\n'; });
    return replaceFile(path, buffer.data());
}

} // namespace oxgoad

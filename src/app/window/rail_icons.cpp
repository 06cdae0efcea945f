#include "app/window/rail_icons.h"

#include "app/theme.h"

#include <QPainter>

namespace oxgoad {

namespace {

void drawStation(QPainter& p, const QString& station, const QColor& colour) {
    const QPen line(colour, 1.6);
    const QPen thin(colour, 1.2);
    p.setPen(line);
    p.setBrush(Qt::NoBrush);
    if (station == "data") {
        for (const int y : {7, 14, 21})
            p.drawLine(3, y, 25, y);
        p.setPen(thin);
        p.drawLine(11, 4, 11, 24);
    } else if (station == "look") {
        p.setPen(thin);
        for (const QPointF c :
             {QPointF(6, 21), QPointF(11, 15), QPointF(16, 18), QPointF(19, 10), QPointF(23, 6)})
            p.drawEllipse(c, 2.2, 2.2);
    } else if (station == "fit") {
        p.drawLine(3, 23, 25, 6);
        p.setPen(thin);
        p.drawEllipse(QPointF(9, 11), 2.2, 2.2);
        p.drawEllipse(QPointF(19, 18), 2.2, 2.2);
    } else if (station == "check") {
        p.setPen(thin);
        p.drawLine(3, 14, 25, 14);
        p.setPen(line);
        p.drawLine(7, 14, 7, 8);
        p.drawLine(12, 14, 12, 20);
        p.drawLine(17, 14, 17, 10);
        p.drawLine(22, 14, 22, 22);
    } else if (station == "compare") {
        p.setPen(thin);
        p.drawRect(QRectF(4.5, 6.5, 8, 15));
        p.drawRect(QRectF(16.5, 6.5, 8, 15));
    } else if (station == "forecast") {
        p.drawLine(3, 20, 13, 15);
        p.setPen(thin);
        p.drawPolygon(QPolygonF{{13, 15}, {25, 5}, {25, 19}});
    }
}

} // namespace

QIcon stationIcon(const QString& station) {
    QIcon icon;
    for (const auto& [state, colour] :
         {std::pair{QIcon::Off, theme::quiet}, std::pair{QIcon::On, theme::ink}}) {
        QPixmap picture(56, 56);
        picture.setDevicePixelRatio(2);
        picture.fill(Qt::transparent);
        QPainter painter(&picture);
        painter.setRenderHint(QPainter::Antialiasing);
        drawStation(painter, station, colour);
        painter.end();
        icon.addPixmap(picture, QIcon::Normal, state);
    }
    return icon;
}

} // namespace oxgoad

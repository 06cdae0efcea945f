#include "app/theme.h"

#include <QApplication>
#include <QFontDatabase>
#include <QLocale>
#include <QPainter>
#include <QPalette>
#include <QStyleFactory>
#include <array>
#include <clocale>

// The resources are in a static library, and the macro may not stand in a namespace.
static void initResources() {
    Q_INIT_RESOURCE(app);
    Q_INIT_RESOURCE(docs);
}

namespace oxgoad::theme {

namespace {

constexpr auto styleSheet = R"(
* { outline: none; }
QMainWindow, #page, #rail, #briefBar, #goadsPanel, #goadsInner { background: #F3F4F1; }
#sheet, #stationSheet { background: #FFFFFF; }
#railButton { border: none; border-left: 3px solid transparent; background: transparent; color: #5E6A6B; padding: 8px 0 8px 0; font-size: 11px; }
#railButton:hover { color: #1F2A2C; background: #E9ECE8; }
#railButton:checked { border-left: 3px solid #1F2A2C; background: #FFFFFF; color: #1F2A2C; font-weight: 600; }
#railButton:focus { background: #E4EAF3; }
#briefPart { border: none; background: transparent; color: #1F2A2C; font-size: 17px; font-weight: 600; text-decoration: underline; padding: 0; margin: 0; text-align: left; }
#briefPart:hover { color: #0E6F68; } #briefPart:focus { background: #E4EAF3; }
#briefWord { font-size: 17px; color: #1F2A2C; }
#briefStrong { font-size: 17px; font-weight: 600; color: #1F2A2C; }
#heading { font-weight: 600; color: #1F2A2C; }
#hint, QLabel[look="hint"] { color: #5E6A6B; font-size: 11px; }
#link, QPushButton[look="link"] { border: none; background: transparent; color: #0E6F68; font-weight: 600; padding: 1px 2px; font-size: 12px; text-align: left; }
#link:hover, QPushButton[look="link"]:hover { text-decoration: underline; } #link:focus, QPushButton[look="link"]:focus { background: #E4EAF3; } #link:disabled, QPushButton[look="link"]:disabled { color: #A9B1AE; }
QPushButton { border: 1px solid #AEB8B3; background: #FFFFFF; padding: 4px 12px; color: #1F2A2C; }
QPushButton:hover { border-color: #1F2A2C; } QPushButton:focus { border-color: #0E6F68; } QPushButton:disabled { color: #A9B1AE; border-color: #D3D9D5; }
QPushButton#primary { background: #1F2A2C; color: #FFFFFF; border: 1px solid #1F2A2C; font-weight: 600; }
QPushButton#primary:hover { background: #37474A; } QPushButton#primary:focus { border: 2px solid #8FC7C1; padding: 3px 11px; }
QComboBox { border: 1px solid #D3D9D5; background: #FFFFFF; padding: 3px 8px; min-height: 18px; color: #1F2A2C; }
QComboBox:focus { border-color: #0E6F68; } QComboBox::drop-down { border: none; width: 18px; }
QComboBox::down-arrow { image: url(:/down.svg); width: 10px; height: 6px; }
QAbstractScrollArea::corner { background: #FFFFFF; border: none; }
QComboBox QAbstractItemView { background: #FFFFFF; border: 1px solid #AEB8B3; selection-background-color: #E4EAF3; selection-color: #1F2A2C; }
QLineEdit, QSpinBox, QDoubleSpinBox { border: 1px solid #D3D9D5; background: #FFFFFF; padding: 3px 6px; selection-background-color: #5B6FA6; }
QLineEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus { border-color: #0E6F68; }
QDoubleSpinBox[wrong="true"] { border: 2px dashed #A33B2C; }
QListWidget, QTextBrowser, QPlainTextEdit { background: #FFFFFF; border: 1px solid #D3D9D5; }
QListWidget:focus, QTextBrowser:focus, QPlainTextEdit:focus { border-color: #0E6F68; }
QScrollArea { border: 1px solid transparent; } QScrollArea:focus { border-color: #0E6F68; }
QTableView { background: #FFFFFF; border: none; gridline-color: transparent; selection-background-color: #E4EAF3; selection-color: #1F2A2C; }
QTableView::item { border: none; padding: 0 8px; }
QHeaderView { background: #FFFFFF; border: none; }
QHeaderView::section { background: #FFFFFF; border: none; border-bottom: 1px solid #D3D9D5; color: #5E6A6B; padding: 4px 8px; font-size: 11px; }
QScrollBar:vertical { width: 10px; background: transparent; } QScrollBar:horizontal { height: 10px; background: transparent; }
QScrollBar::handle { background: #C5CDC9; border-radius: 3px; min-height: 24px; min-width: 24px; margin: 2px; }
QScrollBar::handle:hover { background: #9AA5A0; }
QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; } QScrollBar::add-page, QScrollBar::sub-page { background: transparent; }
QSplitter::handle { background: #D3D9D5; }
QMenu { background: #FFFFFF; border: 1px solid #AEB8B3; padding: 4px 0; } QMenu::item { padding: 5px 24px 5px 24px; } QMenu::item:selected { background: #E4EAF3; color: #1F2A2C; } QMenu::item:disabled { color: #A9B1AE; } QMenu::separator { height: 1px; background: #D3D9D5; margin: 4px 0; }
QToolTip { background: #FFFFFF; color: #1F2A2C; border: 1px solid #AEB8B3; padding: 4px; }
QProgressBar { border: none; background: #E1E5E1; height: 6px; } QProgressBar::chunk { background: #0E6F68; }
QCheckBox { spacing: 6px; }
)";

} // namespace

void apply(QApplication& application) {
    // Data files have a decimal point whatever the language of the desktop.
    std::setlocale(LC_NUMERIC, "C");
    // One rule for fields, axes and texts: a decimal point, whatever the language of the desktop.
    QLocale plain = QLocale::c();
    plain.setNumberOptions(QLocale::OmitGroupSeparator);
    QLocale::setDefault(plain);
    initResources();
    QApplication::setStyle(QStyleFactory::create("Fusion"));
    application.setFont(font(textSize));
    QPalette palette;
    palette.setColor(QPalette::Window, page);
    palette.setColor(QPalette::Base, sheet);
    palette.setColor(QPalette::AlternateBase, page);
    palette.setColor(QPalette::Text, ink);
    palette.setColor(QPalette::WindowText, ink);
    palette.setColor(QPalette::Button, sheet);
    palette.setColor(QPalette::ButtonText, ink);
    palette.setColor(QPalette::Highlight, selected);
    palette.setColor(QPalette::HighlightedText, ink);
    palette.setColor(QPalette::ToolTipBase, sheet);
    palette.setColor(QPalette::ToolTipText, ink);
    palette.setColor(QPalette::PlaceholderText, quiet);
    QApplication::setPalette(palette);
    application.setStyleSheet(styleSheet);
}

QFont font(int pixels, bool bold) {
    // Digits of one width by default; DejaVu, which every Debian desktop has, where it is not installed.
    static const QString family =
        QFontDatabase::families().contains("Open Sans") ? "Open Sans" : "DejaVu Sans";
    QFont f(family);
    f.setPixelSize(pixels);
    if (bold) f.setWeight(QFont::DemiBold);
    return f;
}

QColor tone(const QString& name) {
    if (name == "quiet") return quiet;
    if (name == "goad") return goad;
    if (name == "alarm") return alarm;
    if (name == "fine") return fine;
    if (name == "learning") return learning;
    if (name == "heldOut") return heldOut;
    if (name == "forecast") return forecast;
    return ink;
}

QColor markColour(Mark kind) {
    switch (kind) {
    case Mark::learning:
        return learning;
    case Mark::heldOut:
        return heldOut;
    case Mark::forecastInside:
    case Mark::forecastEdge:
    case Mark::forecastOutside:
        return forecast;
    default:
        return ink;
    }
}

QPixmap mark(Mark kind, const QColor& colour, qreal pixelRatio) {
    constexpr int side = 9;
    QPixmap picture(qRound(side * pixelRatio), qRound(side * pixelRatio));
    picture.setDevicePixelRatio(pixelRatio);
    picture.fill(Qt::transparent);
    QPainter painter(&picture);
    painter.setRenderHint(QPainter::Antialiasing);
    painter.setPen(QPen(colour, 1.1));
    const QPointF centre(side / 2.0, side / 2.0);
    auto polygon = [&](std::initializer_list<QPointF> offsets, bool filled) {
        QPolygonF shape;
        for (const QPointF& offset : offsets)
            shape << centre + offset;
        painter.setBrush(filled ? QBrush(colour) : Qt::NoBrush);
        painter.drawPolygon(shape);
    };
    switch (kind) {
    case Mark::learning:
        painter.setBrush(Qt::NoBrush);
        painter.drawEllipse(centre, 2.5, 2.5);
        break;
    case Mark::heldOut:
    case Mark::diamond:
        polygon({{0, -3}, {3, 0}, {0, 3}, {-3, 0}}, true);
        break;
    case Mark::forecastInside:
        polygon({{0, -3.2}, {3.4, 2.8}, {-3.4, 2.8}}, true);
        break;
    case Mark::forecastEdge: // half filled
        polygon({{0, -3.2}, {3.4, 2.8}, {-3.4, 2.8}}, false);
        polygon({{-1.7, 0}, {1.7, 0}, {3.4, 2.8}, {-3.4, 2.8}}, true);
        break;
    case Mark::forecastOutside: // a cross: not to be taken for the others at any size
        painter.setPen(QPen(colour, 1.8));
        painter.drawLine(centre + QPointF(-3, -3), centre + QPointF(3, 3));
        painter.drawLine(centre + QPointF(-3, 3), centre + QPointF(3, -3));
        break;
    case Mark::plain:
        polygon({{-2.2, -2.2}, {2.2, -2.2}, {2.2, 2.2}, {-2.2, 2.2}}, true);
        break;
    }
    return picture;
}

QColor groupColour(int index) {
    static const std::array colours{ink, goad, forecast, fine, learning, alarm, heldOut, quiet};
    return colours[static_cast<std::size_t>(index) % colours.size()];
}

} // namespace oxgoad::theme

#include "app/parts.h"

#include "app/theme.h"
#include "base/text.h"
#include "table/values.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QDialogButtonBox>
#include <QDrag>
#include <QHeaderView>
#include <QHelpEvent>
#include <QKeyEvent>
#include <QLineEdit>
#include <QMimeData>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QScrollBar>
#include <QStyle>
#include <QToolTip>
#include <algorithm>
#include <cmath>

namespace oxgoad {

QLabel* plainLabel(const QString& text, const QString& name, QWidget* parent) {
    auto* label = new QLabel(parent);
    label->setTextFormat(Qt::PlainText);
    label->setText(text);
    label->setObjectName(name);
    label->setProperty("look", name); // stays when a part gets a name of its own
    label->setTextInteractionFlags(Qt::TextSelectableByMouse);
    return label;
}

QPushButton* linkButton(const QString& text, QWidget* parent) {
    auto* button = new QPushButton(parent);
    button->setText(QString(text).replace('&', "&&"));
    button->setObjectName("link");
    button->setProperty("look", "link");
    button->setFlat(true);
    button->setCursor(Qt::PointingHandCursor);
    button->setAccessibleName(text);
    return button;
}

FindField::FindField(const QString& placeholder, const QString& accessibleName, const char* objectName) {
    setObjectName(objectName);
    setPlaceholderText(placeholder);
    setAccessibleName(accessibleName);
    setClearButtonEnabled(true);
    setFixedWidth(130);
}

bool FindField::event(QEvent* event) {
    // Before it stops work elsewhere.
    if (event->type() == QEvent::ShortcutOverride &&
        static_cast<QKeyEvent*>(event)->key() == Qt::Key_Escape && !text().isEmpty())
        event->accept();
    return QLineEdit::event(event);
}

void FindField::keyPressEvent(QKeyEvent* event) {
    if (event->key() == Qt::Key_Escape && !text().isEmpty())
        clear();
    else
        QLineEdit::keyPressEvent(event);
}

std::optional<double> typedNumber(const QString& text) {
    const auto number = parseDressedNumber(ss(text), {.decimalMark = '.',
                                                      .thousandsMarks = ", '",
                                                      .currency = false,
                                                      .percent = NumberDress::Percent::refused});
    return number ? std::optional(number->value) : std::nullopt;
}

NumberBox::NumberBox(QWidget* parent) : QDoubleSpinBox(parent) {
    setButtonSymbols(NoButtons); // the arrow keys step
    setCorrectionMode(CorrectToPreviousValue);
    setKeyboardTracking(false); // half a number is none
    connect(lineEdit(), &QLineEdit::textChanged, this, [this](const QString& text) { judge(text); });
}

std::optional<double> NumberBox::typed(const QString& text) const {
    if (!specialValueText().isEmpty() && text == specialValueText()) return minimum();
    QString bare = text;
    if (bare.startsWith(prefix())) bare.remove(0, prefix().size());
    if (bare.endsWith(suffix())) bare.chop(suffix().size());
    const auto number = typedNumber(bare.trimmed());
    if (!number || *number < minimum() || *number > maximum()) return std::nullopt;
    const double unit = std::pow(10, decimals());
    const bool fits =
        std::fabs(std::round(*number * unit) - *number * unit) <= 1e-9 * std::fabs(*number * unit);
    return fits ? number : std::nullopt;
}

QValidator::State NumberBox::validate(QString& text, int&) const {
    // What is not a number yet, or none at all, may stand until the field is left.
    return typed(text) ? QValidator::Acceptable : QValidator::Intermediate;
}

double NumberBox::valueFromText(const QString& text) const {
    return typed(text).value_or(value());
}

QString NumberBox::textFromValue(double value) const {
    return qs(exactText(std::round(value * std::pow(10, decimals())) / std::pow(10, decimals())));
}

QString NumberBox::refusal(const QString& text) const {
    const QString kind = decimals() == 0 ? tr("whole number") : tr("number");
    return tr("%1 is no %2 from %3 to %4 with a point as decimal mark; it was not taken.")
        .arg(text.isEmpty() ? tr("An empty field") : text.toHtmlEscaped(), kind, textFromValue(minimum()),
             textFromValue(maximum()));
}

void NumberBox::fixup(QString& text) const {
    QToolTip::showText(mapToGlobal(QPoint(0, height())), refusal(text));
    text = textFromValue(value());
}

void NumberBox::keyPressEvent(QKeyEvent* event) {
    const bool enter = event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter;
    if (enter && !typed(text())) {
        QToolTip::showText(mapToGlobal(QPoint(0, height())), refusal(text()));
        selectAll();
        event->accept(); // what was typed is not left behind
        return;
    }
    QDoubleSpinBox::keyPressEvent(event);
}

void NumberBox::judge(const QString& text) {
    const bool wrong = !typed(text);
    if (property("wrong").toBool() != wrong) {
        setProperty("wrong", wrong);
        setAccessibleDescription(wrong ? refusal(text) : QString());
        style()->unpolish(this);
        style()->polish(this);
    }
    auto* buttons = window()->findChild<QDialogButtonBox*>();
    QPushButton* ok = buttons ? buttons->button(QDialogButtonBox::Ok) : nullptr;
    if (wrong && !m_held && ok && ok->isEnabled()) {
        m_held = ok;
        ok->setEnabled(false);
    } else if (!wrong && m_held) {
        m_held->setEnabled(true);
        m_held = nullptr;
    }
}

WholeBox::WholeBox(int low, int high, QWidget* parent) : NumberBox(parent) {
    setDecimals(0);
    setRange(low, high);
}

FlowLayout::FlowLayout(QWidget* parent, int gap, int lineGap)
    : QLayout(parent), m_gap(gap), m_lineGap(lineGap) {
    setContentsMargins(0, 0, 0, 0);
}

FlowLayout::~FlowLayout() {
    qDeleteAll(m_items);
}

QSize FlowLayout::minimumSize() const {
    QSize size;
    for (const QLayoutItem* item : m_items)
        size = size.expandedTo(item->minimumSize());
    return size;
}

void FlowLayout::setGeometry(const QRect& rect) {
    QLayout::setGeometry(rect);
    place(rect, true);
}

int FlowLayout::place(const QRect& rect, bool move) const {
    int x = rect.x();
    int y = rect.y();
    int lineHeight = 0;
    for (QLayoutItem* item : m_items) {
        if (item->isEmpty()) continue;
        const QSize size = item->sizeHint();
        // A comma or full stop stays with the word before it.
        const auto* label = qobject_cast<QLabel*>(item->widget());
        const bool punctuation =
            label && !label->text().isEmpty() && QString(",.:;)").contains(label->text()[0]);
        if (x > rect.x() && x + size.width() > rect.right() + 1 && !punctuation) {
            x = rect.x();
            y += lineHeight + m_lineGap;
            lineHeight = 0;
        }
        if (punctuation && x > rect.x()) x -= m_gap;
        if (move) item->setGeometry(QRect(QPoint(x, y), size));
        x += size.width() + m_gap;
        lineHeight = std::max(lineHeight, size.height());
    }
    return y + lineHeight - rect.y();
}

namespace {

void drawInterval(QPainter& painter, const QRect& rect, const IntervalDrawing& drawing) {
    if (!(drawing.high > drawing.low)) return;
    const QRectF area = QRectF(rect).adjusted(10, 0, -10, 0);
    auto x = [&](double value) {
        return area.left() + area.width() * (value - drawing.low) / (drawing.high - drawing.low);
    };
    painter.setPen(QPen(theme::rule, 1, Qt::DotLine));
    painter.drawLine(QPointF(x(0), rect.top()), QPointF(x(0), rect.bottom()));
    const double apart =
        drawing.marks.size() > 1 ? (area.height() - 6) / static_cast<double>(drawing.marks.size()) : 0;
    double y = area.center().y() - apart * (static_cast<double>(drawing.marks.size()) - 1) / 2;
    for (const auto& m : drawing.marks) {
        painter.setPen(QPen(theme::ink, 1.6));
        painter.drawLine(QPointF(x(m.lower), y), QPointF(x(m.upper), y));
        const double half = drawing.marks.size() > 1 ? 2 : 3;
        painter.fillRect(QRectF(x(m.estimate) - half, y - half, 2 * half, 2 * half), theme::ink);
        y += apart;
    }
}

void drawShape(QPainter& painter, const QRect& rect, const ShapeDrawing& drawing) {
    if (drawing.values.empty() ||
        std::any_of(drawing.values.begin(), drawing.values.end(), [](double v) { return !std::isfinite(v); }))
        return;
    const QRectF area = QRectF(rect).adjusted(8, 4, -8, -4);
    const auto n = static_cast<double>(drawing.values.size());
    double low = *std::min_element(drawing.values.begin(), drawing.values.end());
    double high = *std::max_element(drawing.values.begin(), drawing.values.end());
    if (drawing.kind == ShapeDrawing::Kind::bars) low = 0;
    if (!(high > low)) high = low + 1;
    auto y = [&](double value) { return area.bottom() - area.height() * (value - low) / (high - low); };
    if (!drawing.below.empty()) {
        const double most = *std::max_element(drawing.below.begin(), drawing.below.end());
        const double width = area.width() / static_cast<double>(drawing.below.size());
        for (std::size_t i = 0; i < drawing.below.size() && most > 0; ++i) {
            const double height = 7 * drawing.below[i] / most;
            painter.fillRect(QRectF(area.left() + width * static_cast<double>(i), rect.bottom() - 1 - height,
                                    std::max(width - 0.5, 0.5), height),
                             theme::rule);
        }
    }
    if (drawing.kind == ShapeDrawing::Kind::bars) {
        const double width = std::min(area.width() / n, 8.0);
        for (std::size_t i = 0; i < drawing.values.size(); ++i)
            painter.fillRect(QRectF(area.left() + width * static_cast<double>(i), y(drawing.values[i]),
                                    width - 0.6, area.bottom() - y(drawing.values[i])),
                             theme::learning);
        return;
    }
    painter.setPen(QPen(theme::learning, 1.5));
    if (drawing.kind == ShapeDrawing::Kind::steps) {
        const double width = area.width() / n;
        for (std::size_t i = 0; i < drawing.values.size(); ++i)
            painter.drawLine(
                QPointF(area.left() + width * (static_cast<double>(i) + 0.1), y(drawing.values[i])),
                QPointF(area.left() + width * (static_cast<double>(i) + 0.9), y(drawing.values[i])));
        return;
    }
    QPolygonF line;
    for (std::size_t i = 0; i < drawing.values.size(); ++i)
        line << QPointF(area.left() + area.width() * static_cast<double>(i) / (n - 1), y(drawing.values[i]));
    painter.drawPolyline(line);
}

void drawBracket(QPainter& painter, const QRect& rect, const BracketDrawing& drawing) {
    const qreal x = rect.right() - 8.5;
    const qreal top = drawing.begins ? rect.top() + 4.5 : rect.top();
    const qreal bottom = drawing.ends ? rect.bottom() - 3.5 : rect.bottom() + 1;
    painter.setRenderHint(QPainter::Antialiasing, false);
    painter.setPen(QPen(theme::goad, 2));
    painter.drawLine(QPointF(x, top), QPointF(x, bottom));
    if (drawing.begins) painter.drawLine(QPointF(x, top), QPointF(x + 5, top));
    if (drawing.ends) painter.drawLine(QPointF(x, bottom), QPointF(x + 5, bottom));
}

} // namespace

void CellDelegate::paint(QPainter* painter, const QStyleOptionViewItem& option,
                         const QModelIndex& index) const {
    painter->save();
    painter->setRenderHint(QPainter::Antialiasing);
    if (option.state & QStyle::State_Selected) painter->fillRect(option.rect, theme::selected);
    const QVariant drawing = index.data(DrawingRole);
    if (drawing.canConvert<IntervalDrawing>()) {
        drawInterval(*painter, option.rect, drawing.value<IntervalDrawing>());
        painter->restore();
        return;
    }
    if (drawing.canConvert<ShapeDrawing>()) {
        drawShape(*painter, option.rect, drawing.value<ShapeDrawing>());
        painter->restore();
        return;
    }
    if (drawing.canConvert<BracketDrawing>()) {
        drawBracket(*painter, option.rect, drawing.value<BracketDrawing>());
        painter->restore();
        return;
    }
    if (const QVariant tint = index.data(Qt::BackgroundRole);
        tint.isValid() && !(option.state & QStyle::State_Selected))
        painter->fillRect(option.rect.adjusted(0, 0, -1, -1), tint.value<QColor>());
    QRect rect = option.rect.adjusted(8, 0, -8, 0);
    if (drawing.typeId() == QMetaType::Int) { // reach
        const auto kind = drawing.toInt() == 2   ? theme::Mark::forecastOutside
                          : drawing.toInt() == 1 ? theme::Mark::forecastEdge
                                                 : theme::Mark::forecastInside;
        const QPixmap mark = theme::mark(kind, theme::forecast, painter->device()->devicePixelRatioF());
        painter->drawPixmap(rect.left(), rect.center().y() - 4, mark);
        rect.adjust(14, 0, 0, 0);
    }
    const QVariant check = index.data(Qt::CheckStateRole);
    if (check.isValid()) {
        QStyleOptionButton box;
        box.rect = tickRect(option.rect);
        box.state =
            QStyle::State_Enabled | (check.toInt() == Qt::Checked ? QStyle::State_On : QStyle::State_Off);
        box.palette = option.palette;
        QApplication::style()->drawPrimitive(QStyle::PE_IndicatorCheckBox, &box, painter);
    }
    if (check.isValid() ||
        (index.column() == 0 && index.model()->index(0, 0).data(Qt::CheckStateRole).isValid()))
        rect.adjust(20, 0, 0, 0);
    const QString tone = index.data(ToneRole).toString();
    QFont font = option.font;
    if (tone == "strong") font.setWeight(QFont::DemiBold);
    painter->setFont(font);
    painter->setPen(theme::tone(tone));
    const QFontMetrics metrics(font);
    const QString text = index.data(Qt::DisplayRole).toString();
    const int fraction = index.data(FractionRole).toInt();
    const auto alignment = index.data(Qt::TextAlignmentRole).value<Qt::Alignment>();
    if ((alignment & Qt::AlignRight) && fraction > 0 && !text.contains('e') && !text.isEmpty()) {
        const auto mark = text.indexOf('.');
        const int after = mark < 0 ? 0 : static_cast<int>(text.size() - mark - 1);
        const int space = metrics.horizontalAdvance(QString(fraction - after, '0')) +
                          (mark < 0 ? metrics.horizontalAdvance('.') : 0);
        if (metrics.horizontalAdvance(text) + space <= rect.width()) rect.adjust(0, 0, -space, 0);
    }
    const int length = metrics.horizontalAdvance(text);
    bool fits = length <= rect.width() + ((alignment & Qt::AlignRight) ? 8 : 0);
    // Half a number reads as another: where there is no room for all of it, or the edge of the view goes
    // through it, none of it is shown.
    if (const auto* view = qobject_cast<const QAbstractItemView*>(option.widget);
        view && (alignment & Qt::AlignRight) && !text.isEmpty() &&
        (rect.right() - length + 1 < 0 || rect.right() >= view->viewport()->width())) {
        fits = false;
        rect = option.rect.adjusted(8, 0, -8, 0) & view->viewport()->rect().adjusted(8, 0, -2, 0);
    }
    const QString shown = fits ? text
                          : (alignment & Qt::AlignRight)
                              ? QString("…")
                              : metrics.elidedText(text, Qt::ElideRight, rect.width());
    painter->drawText((alignment & Qt::AlignRight) ? rect.adjusted(-8, 0, 0, 0) : rect,
                      static_cast<int>(alignment), shown);
    painter->restore();
}

QRect CellDelegate::tickRect(const QRect& cell) {
    return {cell.left() + 8, cell.center().y() - 6, 13, 13};
}

bool CellDelegate::helpEvent(QHelpEvent* event, QAbstractItemView* view, const QStyleOptionViewItem& option,
                             const QModelIndex& index) {
    const QString text = index.data().toString();
    if (index.data(Qt::ToolTipRole).isValid() ||
        QFontMetrics(option.font).horizontalAdvance(text) + 16 <= option.rect.width())
        return QStyledItemDelegate::helpEvent(event, view, option, index);
    QToolTip::showText(event->globalPos(), "<qt>" + text.toHtmlEscaped() + "</qt>", view);
    return true;
}

bool CellDelegate::editorEvent(QEvent* event, QAbstractItemModel* model, const QStyleOptionViewItem& option,
                               const QModelIndex& index) {
    if (event->type() != QEvent::MouseButtonRelease || !(index.flags() & Qt::ItemIsUserCheckable))
        return false;
    const auto* mouse = static_cast<QMouseEvent*>(event);
    if (mouse->button() != Qt::LeftButton ||
        !tickRect(option.rect).adjusted(-4, -4, 4, 4).contains(mouse->pos()))
        return false;
    return model->setData(index,
                          index.data(Qt::CheckStateRole).toInt() == Qt::Checked ? Qt::Unchecked : Qt::Checked,
                          Qt::CheckStateRole);
}

GridView::GridView(const QString& accessibleName, QWidget* parent) : QTableView(parent) {
    setAccessibleName(accessibleName);
    setItemDelegate(new CellDelegate(this));
    setShowGrid(false);
    setSelectionBehavior(SelectRows);
    setSelectionMode(ExtendedSelection);
    setEditTriggers(NoEditTriggers);
    setDragEnabled(true);
    setVerticalScrollMode(ScrollPerPixel);
    setHorizontalScrollMode(ScrollPerPixel);
    setWordWrap(false);
    setTabKeyNavigation(false);
    setFont(theme::font(12));
    verticalHeader()->hide();
    verticalHeader()->setSectionResizeMode(QHeaderView::Fixed);
    verticalHeader()->setDefaultSectionSize(23);
    horizontalHeader()->setHighlightSections(false);
    horizontalHeader()->setStretchLastSection(true);
    horizontalHeader()->setMinimumSectionSize(36);
    connect(this, &QTableView::doubleClicked, this, &GridView::opened);
    connect(verticalScrollBar(), &QScrollBar::valueChanged, this, &GridView::makeRoom);
    connect(horizontalScrollBar(), &QScrollBar::valueChanged, this, &GridView::makeRoom);
}

void GridView::show(GridModel* model) {
    setModel(model);
    fitColumns();
}

bool GridView::isNumbers(int column) const {
    return model()->rowCount() > 0 &&
           (model()->index(0, column).data(Qt::TextAlignmentRole).value<Qt::Alignment>() & Qt::AlignRight);
}

int GridView::neededWidth(int column, int widest, int first, int count) const {
    const QFontMetrics metrics(font());
    const QFontMetrics bold(theme::font(12, true));
    const QFontMetrics head(theme::font(theme::smallSize));
    int width = 0;
    const QStringList lines =
        model()->headerData(column, Qt::Horizontal, Qt::DisplayRole).toString().split('\n');
    for (const QString& line : lines)
        width = std::max(width, head.horizontalAdvance(line) + 18);
    int whole = 0;
    int fraction = 0;
    const bool ticks = column == 0 && model()->index(0, 0).data(Qt::CheckStateRole).isValid();
    for (int row = first; row < std::min(model()->rowCount(), first + count); ++row) {
        const QModelIndex index = model()->index(row, column);
        const QString text = index.data().toString();
        const QVariant drawing = index.data(DrawingRole);
        const bool strong = index.data(ToneRole).toString() == "strong";
        const auto mark = index.data(FractionRole).toInt() > 0 ? text.indexOf('.') : -1;
        const int used = (strong ? bold : metrics).horizontalAdvance(text) + 18 + (ticks ? 20 : 0) +
                         (drawing.typeId() == QMetaType::Int ? 14 : 0);
        whole = std::max(whole, mark < 0 ? used : metrics.horizontalAdvance(text.left(mark)) + 18);
        if (mark >= 0) fraction = std::max(fraction, metrics.horizontalAdvance(text.mid(mark)));
        if (drawing.canConvert<IntervalDrawing>()) width = std::max(width, 136);
        if (drawing.canConvert<ShapeDrawing>()) width = std::max(width, 80);
    }
    const int needed = std::max(width, whole + fraction);
    return isNumbers(column) ? needed : std::min(needed, widest);
}

void GridView::fitColumns(int widest) {
    if (!model()) return;
    m_widest = widest;
    m_fitted.assign(static_cast<std::size_t>(model()->columnCount()), false);
    makeRoom();
}

void GridView::setWidths(const std::vector<int>& first, int width) {
    if (!model()) return;
    horizontalHeader()->setDefaultSectionSize(width);
    const int columns = model()->columnCount();
    for (int column = 0; column < std::min(columns, static_cast<int>(first.size())); ++column)
        setColumnWidth(column, first[static_cast<std::size_t>(column)]);
    m_fitted.assign(static_cast<std::size_t>(columns), true);
    makeRoom();
}

void GridView::makeRoom() {
    if (!model() || model()->columnCount() == 0 || m_makingRoom) return;
    m_makingRoom = true;
    const int columns = model()->columnCount();
    if (const bool stretch = !isNumbers(columns - 1); stretch != horizontalHeader()->stretchLastSection())
        horizontalHeader()->setStretchLastSection(stretch);
    m_fitted.resize(static_cast<std::size_t>(columns), false);
    // What is in view, and no more: neither a million rows nor thousands of columns are measured for a tick.
    // Of few columns all, so that the bar below knows how wide they are.
    constexpr int fewColumns = 40;
    const int first = std::max(0, rowAt(0));
    const int linesInView = viewport()->height() / std::max(1, verticalHeader()->defaultSectionSize()) + 2;
    const bool few = columns <= fewColumns;
    bool moved = false;
    for (int column = few ? 0 : std::max(0, columnAt(0)); column < columns; ++column) {
        if (!few && columnViewportPosition(column) > viewport()->width()) break;
        const auto fitted = m_fitted[static_cast<std::size_t>(column)];
        int width = columnWidth(column);
        if (!fitted) width = neededWidth(column, m_widest);
        if (isNumbers(column) && (fitted || first + linesInView > linesMeasured))
            width = std::max(width, neededWidth(column, 0, first, linesInView));
        m_fitted[static_cast<std::size_t>(column)] = true;
        if (width == columnWidth(column)) continue;
        setColumnWidth(column, width);
        moved = true;
    }
    // What was gone to stays in view where columns before it took more room.
    const QModelIndex current = currentIndex();
    if (moved && !few && current.isValid() && hasFocus() && current.column() >= columnAt(0) &&
        columnViewportPosition(current.column()) < viewport()->width()) {
        updateGeometries();
        scrollTo(current);
    }
    m_makingRoom = false;
}

void GridView::resizeEvent(QResizeEvent* event) {
    QTableView::resizeEvent(event);
    makeRoom();
}

void GridView::setModel(QAbstractItemModel* model) {
    if (this->model()) this->model()->disconnect(this);
    QTableView::setModel(model);
    if (!model) return;
    connect(model, &QAbstractItemModel::modelReset, this, &GridView::makeRoom);
    connect(model, &QAbstractItemModel::dataChanged, this,
            [this](const QModelIndex&, const QModelIndex&, const QList<int>& roles) {
                if (roles.isEmpty() || roles.contains(Qt::DisplayRole)) makeRoom();
            });
}

void GridView::goTo() {
    if (!currentIndex().isValid() && model() && model()->rowCount() > 0)
        setCurrentIndex(model()->index(0, 0));
    setFocus();
}

void GridView::focusInEvent(QFocusEvent* event) {
    // Arriving by Tab is not choosing the first line.
    m_arriving = true;
    QTableView::focusInEvent(event);
    m_arriving = false;
    viewport()->update();
}

void GridView::focusOutEvent(QFocusEvent* event) {
    QTableView::focusOutEvent(event);
    viewport()->update();
}

void GridView::paintEvent(QPaintEvent* event) {
    QTableView::paintEvent(event);
    if (!hasFocus()) return;
    QPainter painter(viewport());
    painter.setPen(QPen(theme::focus, 1));
    painter.drawRect(viewport()->rect().adjusted(0, 0, -1, -1));
    if (!currentIndex().isValid()) return;
    const QRect first = visualRect(currentIndex().siblingAtColumn(0));
    painter.drawRect(QRect(1, first.top(), viewport()->width() - 3, first.height() - 1));
}

namespace {

/// As text parted by tabs, and as cells for office programs. Data text is text in it, never marks.
QMimeData* cellsData(const QModelIndexList& indexes) {
    auto* data = new QMimeData;
    const QString text = copiedText(indexes);
    data->setText(text);
    QString html = "<table>";
    for (const QString& line : text.split('\n')) {
        html += "<tr>";
        for (const QString& cell : line.split('\t'))
            html += "<td>" + cell.toHtmlEscaped() + "</td>";
        html += "</tr>";
    }
    data->setHtml(html + "</table>");
    return data;
}

} // namespace

void GridView::startDrag(Qt::DropActions) {
    if (!selectionModel() || !selectionModel()->hasSelection()) return;
    auto* drag = new QDrag(this);
    drag->setMimeData(cellsData(selectionModel()->selectedIndexes()));
    drag->exec(Qt::CopyAction);
}

void GridView::keyPressEvent(QKeyEvent* event) {
    if (event->matches(QKeySequence::Copy) && selectionModel()) {
        QApplication::clipboard()->setMimeData(cellsData(selectionModel()->selectedIndexes()));
        return;
    }
    if ((event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) && currentIndex().isValid()) {
        emit opened(currentIndex());
        return;
    }
    const bool plainSpace = event->key() == Qt::Key_Space && !(event->modifiers() & ~Qt::KeypadModifier);
    if (plainSpace && currentIndex().isValid()) { // one key puts a term in or out
        const QModelIndex first = currentIndex().siblingAtColumn(0);
        if (first.flags() & Qt::ItemIsUserCheckable) {
            model()->setData(
                first, first.data(Qt::CheckStateRole).toInt() == Qt::Checked ? Qt::Unchecked : Qt::Checked,
                Qt::CheckStateRole);
            return;
        }
    }
    QTableView::keyPressEvent(event);
}

void GridView::currentChanged(const QModelIndex& current, const QModelIndex& previous) {
    QTableView::currentChanged(current, previous);
    if (!m_arriving && current.isValid() && current.row() != previous.row()) emit lineChosen(current);
}

} // namespace oxgoad

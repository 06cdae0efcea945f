#pragma once
// Small widgets that every station uses.
#include "workspace/grid_model.h"

#include <QDoubleSpinBox>
#include <QLabel>
#include <QLayout>
#include <QLineEdit>
#include <QPointer>
#include <QPushButton>
#include <QStyledItemDelegate>
#include <QTableView>
#include <cmath>
#include <optional>
#include <vector>

namespace oxgoad {

/// Text that is never markup, can be selected, and wraps when asked to.
QLabel* plainLabel(const QString& text, const QString& name = {}, QWidget* parent = nullptr);
/// A word that does something.
QPushButton* linkButton(const QString& text, QWidget* parent = nullptr);
/// A field to look for something as it is typed. Escape forgets what was looked for.
class FindField : public QLineEdit {
    Q_OBJECT
public:
    FindField(const QString& placeholder, const QString& accessibleName, const char* objectName);

protected:
    bool event(QEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
};

/// The number somebody typed, by the one rule of the window: a decimal point, and commas, blanks or
/// apostrophes that part groups of three. Nothing for everything else: a number typed is never read as
/// another.
std::optional<double> typedNumber(const QString& text);

/// A field for a number that keeps to typedNumber: what it cannot read, or would have to round, stays and is
/// said to be no such number, and the dialog cannot be left with it; left by Tab it becomes what it was.
class NumberBox : public QDoubleSpinBox {
public:
    explicit NumberBox(QWidget* parent = nullptr);
    QValidator::State validate(QString& text, int& position) const override;
    double valueFromText(const QString& text) const override;
    QString textFromValue(double value) const override;
    void fixup(QString& text) const override;

protected:
    void keyPressEvent(QKeyEvent* event) override;

private:
    /// What was typed, if it is a number that this field takes.
    std::optional<double> typed(const QString& text) const;
    QString refusal(const QString& text) const;
    /// Marks the field, and closes or opens the way out of its dialog.
    void judge(const QString& text);
    QPointer<QPushButton> m_held;
};

/// The same for whole numbers.
class WholeBox : public NumberBox {
public:
    WholeBox(int low, int high, QWidget* parent = nullptr);
    int value() const { return static_cast<int>(std::lround(QDoubleSpinBox::value())); }
};

/// Lays widgets out like words of a sentence.
class FlowLayout : public QLayout {
public:
    explicit FlowLayout(QWidget* parent, int gap, int lineGap);
    ~FlowLayout() override;
    void addItem(QLayoutItem* item) override { m_items.append(item); }
    int count() const override { return static_cast<int>(m_items.size()); }
    QLayoutItem* itemAt(int index) const override {
        return index >= 0 && index < count() ? m_items.at(index) : nullptr;
    }
    QLayoutItem* takeAt(int index) override {
        return index >= 0 && index < count() ? m_items.takeAt(index) : nullptr;
    }
    bool hasHeightForWidth() const override { return true; }
    int heightForWidth(int width) const override { return place(QRect(0, 0, width, 0), false); }
    QSize sizeHint() const override { return minimumSize(); }
    QSize minimumSize() const override;
    void setGeometry(const QRect& rect) override;

private:
    int place(const QRect& rect, bool move) const;
    QList<QLayoutItem*> m_items;
    int m_gap;
    int m_lineGap;
};

/// Draws cells: tones, numbers lined up at the decimal mark, intervals, small shapes, reach marks.
class CellDelegate : public QStyledItemDelegate {
    Q_OBJECT
public:
    using QStyledItemDelegate::QStyledItemDelegate;
    void paint(QPainter* painter, const QStyleOptionViewItem& option,
               const QModelIndex& index) const override;
    bool editorEvent(QEvent* event, QAbstractItemModel* model, const QStyleOptionViewItem& option,
                     const QModelIndex& index) override;
    /// The whole text of a cell that is shown shortened.
    bool helpEvent(QHelpEvent* event, QAbstractItemView* view, const QStyleOptionViewItem& option,
                   const QModelIndex& index) override;
    /// Where the tick of a cell is drawn and clicked.
    static QRect tickRect(const QRect& cell);
};

/// A table with our manners: no grid, whole rows, copying with full precision, Return opens the line.
class GridView : public QTableView {
    Q_OBJECT
public:
    explicit GridView(const QString& accessibleName, QWidget* parent = nullptr);
    /// Sets the model and gives each column the width its head and first rows need.
    void show(GridModel* model);
    /// Widths for heads and cells, of the columns in view now and of the others once they come into view.
    /// `widest` holds for texts only: a number is never cut short.
    void fitColumns(int widest = 260);
    /// The first columns as given, all others `width` wide.
    void setWidths(const std::vector<int>& first, int width);
    /// What a column needs for its head and its first lines.
    int neededWidth(int column, int widest) const { return neededWidth(column, widest, 0, linesMeasured); }
    void setModel(QAbstractItemModel* model) override;
    /// Takes the keyboard, at its first line where none is chosen.
    void goTo();

signals:
    /// Return or a double click on a line.
    void opened(const QModelIndex& index);
    /// The current line changed by the user.
    void lineChosen(const QModelIndex& index);

protected:
    void keyPressEvent(QKeyEvent* event) override;
    /// The chosen lines, as text and as cells.
    void startDrag(Qt::DropActions actions) override;
    void currentChanged(const QModelIndex& current, const QModelIndex& previous) override;
    void focusInEvent(QFocusEvent* event) override;
    void focusOutEvent(QFocusEvent* event) override;
    void paintEvent(QPaintEvent* event) override;
    void resizeEvent(QResizeEvent* event) override;

private:
    static constexpr int linesMeasured = 60;
    /// For the head and `count` rows from `first` on.
    int neededWidth(int column, int widest, int first, int count) const;
    bool isNumbers(int column) const;
    /// Makes room for the numbers in view, and keeps a last column of numbers beside the others.
    void makeRoom();
    bool m_arriving = false;
    bool m_makingRoom = false;
    int m_widest = 260;
    /// Columns that were in view since widths were last to fit.
    std::vector<bool> m_fitted;
};

} // namespace oxgoad

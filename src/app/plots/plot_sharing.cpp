// A plot as a picture, as a table, and the menu that offers them.
#include "app/parts.h"
#include "app/plots/picture_file.h"
#include "app/plots/plot_parts.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QContextMenuEvent>
#include <QDialog>
#include <QDrag>
#include <QFileDialog>
#include <QMenu>
#include <QMimeData>
#include <QTemporaryDir>
#include <QUrl>
#include <QVBoxLayout>

namespace oxgoad {

void PlotFrame::contextMenuEvent(QContextMenuEvent* event) {
    QMenu menu(this);
    menu.addAction(tr("Show all"), QKeySequence(Qt::Key_Home), this, &PlotFrame::showAll);
    menu.addAction(tr("Mark the rows in view"), QKeySequence(Qt::Key_M), this, &PlotFrame::markInView);
    menu.addAction(tr("Unmark all rows"), QKeySequence(Qt::Key_Escape), this,
                   [this] { emit rowsMarked({}, false); });
    menu.addSeparator();
    menu.addAction(tr("Copy picture"), QKeySequence::Copy, this, &PlotFrame::copyPicture);
    auto ask = [this](const QString& filter, const QString& name) {
        const QString path = QFileDialog::getSaveFileName(this, tr("Save picture"), name, filter);
        if (!path.isEmpty()) savePicture(path);
    };
    menu.addAction(tr("Save as PNG…"), this, [ask] { ask("PNG (*.png)", "plot.png"); });
    menu.addAction(tr("Save as SVG…"), this, [ask] { ask("SVG (*.svg)", "plot.svg"); });
    menu.addAction(tr("Show as table"), this, &PlotFrame::showAsTable);
    menu.exec(event->globalPos());
}

bool PlotFrame::savePicture(const QString& path) {
    m_plot->note->setVisible(false);
    if (!path.endsWith(".svg", Qt::CaseInsensitive))
        return writePicture(path, m_plot->widget->toPixmap(width(), height(), 2.0));
    const QString title = m_content.yTitle + " against " + m_content.xTitle;
    return writePicture<QCPPainter>(path, size(), title, [this](QCPPainter& painter) {
        painter.setMode(QCPPainter::pmVectorized);
        m_plot->widget->toPainter(&painter, width(), height());
    });
}

void PlotFrame::copyPicture() {
    QApplication::clipboard()->setPixmap(m_plot->widget->toPixmap(width(), height(), 2.0));
}

void PlotFrame::dragPicture() {
    // The file stays until the program ends: who takes it may read it later.
    static const QTemporaryDir folder;
    static int count = 0;
    const QString path = folder.filePath(QString("plot-%1.svg").arg(++count));
    auto* drag = new QDrag(this);
    auto* data = new QMimeData;
    const QPixmap picture = m_plot->widget->toPixmap(width(), height(), 2.0);
    data->setImageData(picture.toImage());
    if (folder.isValid() && savePicture(path)) data->setUrls({QUrl::fromLocalFile(path)});
    drag->setMimeData(data);
    drag->setPixmap(picture.scaledToWidth(160, Qt::SmoothTransformation));
    drag->exec(Qt::CopyAction);
}

void PlotFrame::showAsTable() {
    struct Cell {
        QString series;
        std::optional<std::size_t> row;
        double x, y;
    };
    auto cells = std::make_shared<std::vector<Cell>>();
    for (const Marks& m : m_content.marks)
        for (std::size_t i = 0; i < m.x.size(); ++i)
            cells->push_back(
                {m.name, m.rows.empty() ? std::nullopt : std::optional(m.rows[i]), m.x[i], m.y[i]});
    for (const Line& l : m_content.lines)
        for (std::size_t i = 0; i < l.x.size(); ++i)
            cells->push_back({l.name.isEmpty() ? l.label : l.name, {}, l.x[i], l.y[i]});
    for (const Bars& b : m_content.bars)
        for (std::size_t i = 0; i < b.heights.size(); ++i)
            cells->push_back({b.name, {}, b.low + b.width * (static_cast<double>(i) + 0.5), b.heights[i]});
    auto* dialog = new QDialog(this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle(m_content.yTitle + " against " + m_content.xTitle);
    dialog->resize(560, 480);
    auto* model = new GridModel(dialog);
    auto at = [cells](int row) -> const Cell& { return (*cells)[static_cast<std::size_t>(row)]; };
    const bool date = m_content.xIsDate;
    const QStringList levels = m_content.xLevels;
    model->setContent({static_cast<int>(cells->size()),
                       {{"series", false, [at](int r) { return at(r).series; }, {}, {}},
                        {"row",
                         true,
                         [at](int r) { return at(r).row ? qs(countText(*at(r).row + 1)) : QString(); },
                         {},
                         {}},
                        {m_content.xTitle,
                         true,
                         [at, date, levels](int r) {
                             return date               ? qs(dateText(static_cast<std::int32_t>(at(r).x)))
                                    : levels.isEmpty() ? qs(readableText(at(r).x, 6))
                                                       : levels.value(qRound(at(r).x));
                         },
                         [at](int r) { return QVariant(at(r).x); },
                         {}},
                        {m_content.yTitle,
                         true,
                         [at](int r) { return qs(readableText(at(r).y, 6)); },
                         [at](int r) { return QVariant(at(r).y); },
                         {}}},
                       {},
                       {},
                       {}});
    auto* view = new GridView(tr("Values of the plot"), dialog);
    view->show(model);
    auto* layout = new QVBoxLayout(dialog);
    layout->addWidget(view);
    dialog->show();
}

} // namespace oxgoad

#include "app/window/help_window.h"

#include "app/parts.h"

#include <QAbstractTextDocumentLayout>
#include <QFile>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QListWidget>
#include <QRegularExpression>
#include <QScrollBar>
#include <QShortcut>
#include <QTextBlock>
#include <QTextBrowser>
#include <QTimer>
#include <QVBoxLayout>
#include <array>

namespace oxgoad {

namespace {

constexpr std::array documents{"guide.md", "keys.md", "methods.md", "recipe.md"};
constexpr int documentRole = Qt::UserRole;
constexpr int levelRole = Qt::UserRole + 1;

QString contentOf(int document) {
    QFile file(QString(":/docs/") + documents[static_cast<std::size_t>(document)]);
    return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

/// Without pictures, which are not with the program, and without links, which lead to files.
QString plainMarkdown(QString text) {
    static const QRegularExpression pictures(R"(!\[[^\]]*\]\([^)]*\))"), links(R"(\[([^\]]*)\]\([^)]*\))");
    text.replace(pictures, {});
    text.replace(links, "\\1");
    return text;
}

} // namespace

HelpWindow::HelpWindow(QWidget* parent) : QDialog(parent) {
    setObjectName("helpWindow");
    setWindowTitle(tr("Help"));
    resize(940, 640);
    auto* layout = new QHBoxLayout(this);
    auto* left = new QVBoxLayout;
    m_find = new QLineEdit(this);
    m_find->setObjectName("helpFind");
    m_find->setPlaceholderText(tr("find in all pages"));
    m_find->setAccessibleName(tr("Find in the guide, the methods and the keys"));
    m_find->setClearButtonEnabled(true);
    left->addWidget(m_find);
    m_found = plainLabel({}, "hint", this);
    m_found->setObjectName("helpFound");
    left->addWidget(m_found);
    m_headings = new QListWidget(this);
    m_headings->setObjectName("helpHeadings");
    m_headings->setAccessibleName(tr("Pages and headings"));
    for (int d = 0; d < static_cast<int>(documents.size()); ++d)
        for (const QString& line : contentOf(d).split('\n')) {
            const bool page = line.startsWith("# "), heading = line.startsWith("## ");
            if (!page && !heading) continue;
            auto* item = new QListWidgetItem((page ? "" : "    ") + line.mid(page ? 2 : 3), m_headings);
            item->setData(documentRole, d);
            item->setData(levelRole, page ? 1 : 2);
        }
    left->addWidget(m_headings, 1);
    layout->addLayout(left, 1);
    m_text = new QTextBrowser(this);
    m_text->setObjectName("helpText");
    m_text->setAccessibleName(tr("Help text"));
    m_text->setOpenLinks(false);
    layout->addWidget(m_text, 3);
    connect(m_headings, &QListWidget::currentRowChanged, this, &HelpWindow::showLine);
    connect(m_find, &QLineEdit::textChanged, this, [this] { search(false); });
    connect(m_find, &QLineEdit::returnPressed, this, [this] { search(true); });
    connect(new QShortcut(QKeySequence::Find, this), &QShortcut::activated, m_find,
            qOverload<>(&QWidget::setFocus));
    m_headings->setCurrentRow(0);
}

void HelpWindow::showDocument(int document) {
    if (m_document == document) return;
    m_document = document;
    m_text->setMarkdown(plainMarkdown(contentOf(document)));
}

void HelpWindow::showLine(int line) {
    if (line < 0) return;
    const QListWidgetItem* item = m_headings->item(line);
    showDocument(item->data(documentRole).toInt());
    const QString wanted = item->text().trimmed();
    for (QTextBlock block = m_text->document()->begin(); block.isValid(); block = block.next())
        if (block.blockFormat().headingLevel() == item->data(levelRole).toInt() && block.text() == wanted) {
            m_text->setTextCursor(QTextCursor(block));
            // The heading stands at the top of what is shown, once the page is laid out.
            QTimer::singleShot(0, m_text, [this, place = block.position()] {
                const QTextBlock at = m_text->document()->findBlock(place);
                const QRectF rect = m_text->document()->documentLayout()->blockBoundingRect(at);
                m_text->verticalScrollBar()->setValue(static_cast<int>(rect.top()));
            });
            return;
        }
}

void HelpWindow::showTopic(const QString& heading) {
    for (int row = 0; row < m_headings->count(); ++row)
        if (m_headings->item(row)->text().trimmed() == heading) {
            m_headings->setCurrentRow(row);
            showLine(row);
            return;
        }
    m_headings->setCurrentRow(0);
}

QString HelpWindow::shownHeading() const {
    return m_headings->currentItem() ? m_headings->currentItem()->text().trimmed() : QString();
}

void HelpWindow::search(bool again) {
    const QString words = m_find->text();
    m_found->clear();
    if (words.size() < 2) return;
    if (!again) m_text->moveCursor(QTextCursor::Start);
    const int first = std::max(0, m_document);
    const int count = static_cast<int>(documents.size());
    for (int step = 0; step <= count; ++step) {
        const int document = (first + step) % count;
        if (step > 0) {
            if (!plainMarkdown(contentOf(document)).contains(words, Qt::CaseInsensitive)) continue;
            m_document = -1;
            showDocument(document);
            m_text->moveCursor(QTextCursor::Start);
        }
        if (!m_text->find(words)) continue;
        m_found->setText(tr("Return: the next place"));
        return;
    }
    m_found->setText(tr("not found"));
}

} // namespace oxgoad

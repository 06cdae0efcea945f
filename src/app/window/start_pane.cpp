#include "app/window/start_pane.h"

#include "app/parts.h"
#include "app/theme.h"

#include <QCoreApplication>
#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QVBoxLayout>

namespace oxgoad {

QString StartPane::demoPath(const QString& name) {
    const QDir here(QCoreApplication::applicationDirPath());
    for (const char* place : {"../demo/%1.oxgoad", "../share/oxgoad/%1.oxgoad"})
        if (const QFileInfo file(here.filePath(QString(place).arg(name))); file.isFile())
            return file.canonicalFilePath();
    return {};
}

StartPane::StartPane(QWidget* parent) : QWidget(parent) {
    setObjectName("startPane");
    setAccessibleName(tr("Start"));
    auto* outer = new QHBoxLayout(this);
    outer->setContentsMargins(40, 28, 40, 28);
    auto* layout = new QVBoxLayout;
    outer->addLayout(layout, 3);
    outer->addStretch(2);
    auto text = [&](const QString& words, const QString& look) {
        auto* label = plainLabel(words, look, this);
        label->setWordWrap(true);
        layout->addWidget(label);
        return label;
    };
    text(tr("Fit, check and forecast with regression models"), "briefStrong");
    text(tr("Oxgoad is for quantities such as revenue, spend and prices: look at the rows, tick the columns "
            "that "
            "explain them, see what the model does not know, and forecast with the risk of reaching too far "
            "said for "
            "every row."),
         {});
    layout->addSpacing(14);
    auto* buttons = new QHBoxLayout;
    auto* open = new QPushButton(tr("Open rows…"), this);
    open->setObjectName("primary");
    connect(open, &QPushButton::clicked, this, &StartPane::openWanted);
    buttons->addWidget(open);
    const auto offer = [&](const QString& name, const QString& title, const char* object,
                           const QString& tip) {
        auto* demo = new QPushButton(title, this);
        demo->setObjectName(object);
        demo->setToolTip(tip);
        demo->setVisible(!demoPath(name).isEmpty());
        connect(demo, &QPushButton::clicked, this, [this, name] { emit pathWanted(demoPath(name)); });
        buttons->addWidget(demo);
    };
    offer("cold_storage", tr("Open the demo"), "openDemo",
          tr("Cold storage depots of an invented firm: 1,440 depot months, four fits, a plan to forecast"));
    offer("trailers", tr("Open the trailers"), "openTrailers",
          tr("3,000 quoted prices of used trailers: what 256 columns are worth, by least squares and by a "
             "lasso"));
    buttons->addStretch(1);
    layout->addLayout(buttons);
    layout->addSpacing(6);
    text(tr("or drop a file on the window: text with a delimiter, a workbook (.xlsx, .ods), an SQLite "
            "database, a "
            "recipe or a project. F1 opens the guide."),
         "hint");
    layout->addSpacing(18);
    m_recentHead = text(tr("Open before"), "heading");
    m_recent = new QVBoxLayout;
    m_recent->setSpacing(2);
    layout->addLayout(m_recent);
    layout->addStretch(1);
    setRecent({});
}

void StartPane::setRecent(const QStringList& paths) {
    while (QLayoutItem* item = m_recent->takeAt(0)) {
        delete item->widget();
        delete item;
    }
    m_recentHead->setVisible(!paths.isEmpty());
    for (const QString& path : paths) {
        auto* button = linkButton(QString(QFileInfo(path).fileName()).replace('&', "&&"), this);
        button->setToolTip("<qt>" + path.toHtmlEscaped() + "</qt>");
        button->setAccessibleName(path);
        connect(button, &QPushButton::clicked, this, [this, path] { emit pathWanted(path); });
        m_recent->addWidget(button);
    }
}

} // namespace oxgoad

#include "app/forecast/hand_on_pane.h"

#include "app/parts.h"
#include "base/file.h"
#include "hand_on/hand_on.h"
#include "hand_on/report.h"
#include "workspace/text.h"

#include <QCheckBox>
#include <QDialog>
#include <QFileInfo>
#include <QGridLayout>
#include <QHBoxLayout>
#include <QScrollArea>
#include <QTextBrowser>
#include <QVBoxLayout>

namespace oxgoad {

HandOnPane::HandOnPane(Session& session, FileChooser& files, QWidget* parent)
    : QWidget(parent), m_session(session), m_files(files) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 6, 0, 0);
    m_written = plainLabel(tr("The model goes out as a file. What is open goes along."), "hint");
    m_written->setObjectName("handOnSaid");
    m_written->setWordWrap(true);
    layout->addWidget(m_written);
    auto* holds = new QHBoxLayout;
    holds->addWidget(plainLabel(tr("The report holds"), {}, this));
    for (const auto& [name, title] : reportParts()) {
        auto* part = new QCheckBox(qs(std::string(title)), this);
        part->setObjectName(qs("reportPart_" + std::string(name)));
        part->setChecked(true);
        holds->addWidget(part);
        m_parts.push_back(part);
    }
    auto* look = linkButton(tr("preview…"), this);
    look->setObjectName("reportPreview");
    connect(look, &QPushButton::clicked, this, &HandOnPane::preview);
    holds->addWidget(look);
    holds->addStretch(1);
    layout->addLayout(holds);
    auto* scroll = new QScrollArea(this);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->viewport()->setAutoFillBackground(false);
    auto* list = new QWidget(scroll);
    auto* grid = new QGridLayout(list);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setHorizontalSpacing(16);
    grid->setVerticalSpacing(4);
    grid->setColumnStretch(1, 1);
    int row = 0;
    std::string_view whom;
    for (const HandOnFormat& format : handOnFormats()) {
        const QString forWhom = format.forWhom == whom ? QString() : qs(std::string(format.forWhom));
        whom = format.forWhom;
        auto* label = plainLabel(forWhom, "heading", list);
        grid->addWidget(label, row, 0, Qt::AlignTop);
        auto* says = plainLabel({}, {}, list);
        says->setWordWrap(true);
        grid->addWidget(says, row, 1, Qt::AlignTop);
        auto* link = linkButton(tr("%1…").arg(qs(std::string(format.file))), list);
        link->setObjectName(qs("handOn_" + std::string(format.name)));
        link->setAccessibleName(
            tr("Hand on as %1, %2").arg(qs(std::string(format.file)), qs(std::string(format.says))));
        const std::string name(format.name);
        connect(link, &QPushButton::clicked, this, [this, name] { write(name); });
        grid->addWidget(link, row, 2, Qt::AlignTop);
        m_lines.push_back({name, says, link});
        ++row;
    }
    grid->setRowStretch(row, 1);
    scroll->setWidget(list);
    list->setAutoFillBackground(false); // which it was given
    layout->addWidget(scroll, 1);
}

QWidget* HandOnPane::focusTarget() {
    for (const Line& line : m_lines)
        if (line.format == m_last) return line.write;
    return m_lines.front().write;
}

void HandOnPane::refresh() {
    const auto evidence = m_session.evidence();
    const bool there = evidence && evidence->study && m_session.prepared();
    for (const Line& line : m_lines) {
        const HandOnFormat& format = *findHandOnFormat(line.format);
        const std::string limit = there ? handOnLimit(format, *evidence->study) : std::string();
        line.says->setText(qs(std::string(format.says) + (limit.empty() ? "" : "; " + limit)));
        line.write->setEnabled(there);
    }
}

std::vector<std::string> HandOnPane::parts() const {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < m_parts.size(); ++k)
        if (m_parts[k]->isChecked()) names.emplace_back(reportParts()[k].first);
    return names.size() == m_parts.size() ? std::vector<std::string>() : names;
}

void HandOnPane::preview() {
    const auto evidence = m_session.evidence();
    const auto rows = m_session.rows();
    const auto prepared = m_session.prepared();
    if (!evidence || !evidence->study || !prepared) return;
    m_session.saveJobs().start(
        tr("Writing the report"),
        [this, evidence, rows, prepared, recipe = m_session.draft(),
         parts = parts()](Progress& progress) -> Jobs::Finish {
            const auto blocks = reportOf({*evidence, recipe, *rows, *prepared}, progress, parts);
            // Pictures of vectors are for the file: what shows here reads no more than text and tables.
            std::vector<ReportBlock> shown;
            for (const ReportBlock& block : blocks)
                if (block.kind != ReportBlock::Kind::plot) shown.push_back(block);
            return [this, html = reportHtml(shown)] {
                auto* window = new QDialog(this);
                window->setObjectName("reportWindow");
                window->setAttribute(Qt::WA_DeleteOnClose);
                window->setWindowTitle(tr("Report"));
                auto* column = new QVBoxLayout(window);
                auto* page = new QTextBrowser(window);
                page->setAccessibleName(tr("Report"));
                page->setOpenLinks(false);
                page->setHtml(qs(html));
                column->addWidget(page);
                window->resize(820, 700);
                window->show();
            };
        });
}

void HandOnPane::write(const std::string& name) {
    const HandOnFormat& format = *findHandOnFormat(name);
    const auto evidence = m_session.evidence();
    const auto rows = m_session.rows();
    const auto prepared = m_session.prepared();
    if (!evidence || !evidence->study || !prepared) return;
    const QString file = qs(std::string(format.file));
    const QString path =
        m_files.saveFile(this, tr("Hand on"), file, tr("%1 (*.%2)").arg(file, QFileInfo(file).suffix()));
    if (path.isEmpty()) return;
    m_last = name;
    const Recipe recipe = m_session.draft();
    m_session.saveJobs().start(
        tr("Handing on"),
        [this, path, name, evidence, rows, prepared, recipe,
         parts = parts()](Progress& progress) -> Jobs::Finish {
            std::string lacks;
            StudyRows own = *rows;
            if (!evidence->forecast) own.forecast.reset();
            const std::string bytes = handOnBytes(
                *findHandOnFormat(name), {*evidence, recipe, own, *prepared, parts}, progress, &lacks);
            progress.checkpoint(0.9, "Writing");
            replaceFile(ss(path), bytes);
            return [this, path, lacks] {
                m_written->setText(tr("Written to %1%2.")
                                       .arg(QFileInfo(path).fileName(),
                                            lacks.empty() ? QString() : tr("; %1").arg(qs(lacks))));
            };
        });
}

} // namespace oxgoad

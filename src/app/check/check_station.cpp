#include "app/check/check_station.h"

#include "app/check/check_picture.h"
#include "app/check/row_pane.h"
#include "app/look/plot_panels.h"
#include "app/parts.h"
#include "base/text.h"
#include "study/say.h"
#include "workspace/grids.h"
#include "workspace/row_grids.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QHBoxLayout>
#include <QLineEdit>
#include <QScrollArea>
#include <QShortcut>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace oxgoad {

namespace {

/// The first choices along the plot; columns follow.
struct Along {
    QString text;
    ResidualAgainst against;
};
const std::vector<Along>& alongChoices() {
    static const std::vector<Along> choices{{"predicted", ResidualAgainst::predicted},
                                            {"row number", ResidualAgainst::rowNumber},
                                            {"time", ResidualAgainst::time},
                                            {"leverage", ResidualAgainst::leverage}};
    return choices;
}

const QString noGroups = "all together";
const QString besideDistribution = "distribution", besideQuantiles = "normal quantiles",
              besideCalibration = "calibration";

} // namespace

CheckStation::CheckStation(Session& session, QWidget* parent) : Station(session, "check", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 6);
    layout->addLayout(makeHead());
    m_splitter = new QSplitter(Qt::Vertical, this);
    m_splitter->setHandleWidth(1);
    m_splitter->addWidget(makePlots(m_splitter));
    m_splitter->addWidget(makePanes(m_splitter));
    layout->addWidget(m_splitter, 1);
    showPane("rows");

    for (QComboBox* box : {m_across, m_up, m_groups, m_besideBox})
        connect(box, &QComboBox::currentTextChanged, this, [this] {
            m_session.view()["check.across"] = ss(m_across->currentText());
            m_session.view()["check.up"] = ss(m_up->currentText());
            m_session.view()["check.by"] = ss(m_groups->currentText());
            m_session.view()["check.beside"] = ss(m_besideBox->currentText());
            draw();
        });
    link(*m_plot);
    link(*m_distribution);
    connect(&m_jobs, &Jobs::failed, &session, &Session::failed);
    connect(&session, &Session::selectionChanged, this, &CheckStation::showSelection);
    connect(m_leaveOut, &QPushButton::clicked, this, &CheckStation::leaveOut);
    connect(m_reason, &QLineEdit::returnPressed, this, &CheckStation::leaveOut);
}

QHBoxLayout* CheckStation::makeHead() {
    auto* head = new QHBoxLayout;
    m_up = plainBox(tr("Up the plot"), "up", this);
    m_across = plainBox(tr("Along the plot"), "across", this);
    m_groups = plainBox(tr("By the levels of"), "by", this);
    m_besideBox = plainBox(tr("Beside the plot"), "beside", this);
    m_besideBox->addItems({besideDistribution, besideQuantiles, besideCalibration});
    head->addWidget(m_up);
    head->addWidget(plainLabel(tr("against")));
    head->addWidget(m_across);
    head->addWidget(m_groups);
    m_says = plainLabel({}, "hint");
    m_says->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred); // the plots decide how wide it is
    m_says->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    head->addWidget(m_says, 1);
    head->addWidget(m_besideBox);
    return head;
}

QWidget* CheckStation::makePlots(QWidget* parent) {
    auto* plots = new QSplitter(Qt::Horizontal, parent);
    plots->setHandleWidth(1);
    m_main = new QStackedWidget(plots);
    m_plot = new PlotFrame(tr("Residual plot"), m_main);
    m_plot->setObjectName("checkPlot");
    m_panels = new PlotPanels(m_main);
    m_main->addWidget(m_plot);
    m_main->addWidget(m_panels);
    m_distribution = new PlotFrame(tr("Distribution"), plots);
    m_distribution->setObjectName("checkBeside");
    plots->addWidget(m_main);
    plots->addWidget(m_distribution);
    plots->setStretchFactor(0, 7);
    plots->setStretchFactor(1, 2);
    plots->setSizes({660, 210});
    return plots;
}

QWidget* CheckStation::makePanes(QWidget* parent) {
    auto* lower = new QWidget(parent);
    auto* layout = new QVBoxLayout(lower);
    layout->setContentsMargins(0, 4, 0, 0);
    layout->setSpacing(2);
    auto* choice = new QHBoxLayout;
    for (const auto& [name, text] : {std::pair{"rows", tr("rows that stand out")},
                                     {"readings", tr("readings of the checks")},
                                     {"row", tr("this row")},
                                     {"left out", tr("left out")},
                                     {"words", tr("in plain words")}}) {
        auto* button = linkButton(text, lower);
        button->setProperty("table", name);
        button->setCheckable(true);
        choice->addWidget(button);
        m_tabs.push_back(button);
        connect(button, &QPushButton::clicked, this, [this, pane = QString(name)] { showPane(pane); });
    }
    choice->addStretch(1);
    m_selected = plainLabel({}, "hint");
    choice->addWidget(m_selected);
    m_reason = new QLineEdit(lower);
    m_reason->setObjectName("leaveOutReason");
    m_reason->setPlaceholderText(tr("reason to leave it out"));
    m_reason->setAccessibleName(tr("Reason to leave the selected row out"));
    m_reason->setFixedWidth(170);
    m_leaveOut = linkButton(tr("leave out"), lower);
    m_leaveOut->setProperty("leaveOut", true);
    choice->addWidget(m_reason);
    choice->addWidget(m_leaveOut);
    layout->addLayout(choice);

    m_panes = new QStackedWidget(lower);
    const auto table = [&](const QString& accessible, const QString& name, GridModel& model) {
        auto* view = new GridView(accessible, m_panes);
        view->setObjectName(name);
        view->setModel(&model);
        m_panes->addWidget(view);
        return view;
    };
    m_outlying = table(tr("Rows that stand out"), "outlying", m_outlyingModel);
    m_readings = table(tr("Readings of the checks"), "readings", m_readingsModel);
    m_row = new RowPane(m_session, m_panes);
    m_panes->addWidget(m_row);
    m_leftOut = table(tr("Rows left out by hand; Return puts one back"), "leftOut", m_leftOutModel);
    auto* scroll = new QScrollArea(m_panes);
    scroll->setFrameShape(QFrame::NoFrame);
    scroll->setWidgetResizable(true);
    scroll->setStyleSheet("QScrollArea, QLabel { background: white; }");
    m_words = plainLabel({}, {}, scroll);
    m_words->setWordWrap(true);
    m_words->setAlignment(Qt::AlignTop | Qt::AlignLeft);
    m_words->setProperty("plainWords", true);
    m_words->setAccessibleName(tr("The model in plain words"));
    scroll->setWidget(m_words);
    scroll->setFocusPolicy(Qt::StrongFocus);
    const auto copy = [this] { QApplication::clipboard()->setText(m_words->text()); };
    auto* shortcut = new QShortcut(QKeySequence::Copy, scroll);
    shortcut->setContext(Qt::WidgetWithChildrenShortcut);
    connect(shortcut, &QShortcut::activated, this, copy);
    m_copy = linkButton(tr("copy"), lower);
    m_copy->setAccessibleName(tr("Copy the paragraph"));
    choice->addWidget(m_copy);
    connect(m_copy, &QPushButton::clicked, this, copy);
    m_panes->addWidget(scroll);
    layout->addWidget(m_panes);
    for (GridView* view : {m_outlying, m_leftOut})
        connect(view, &GridView::lineChosen, this, [this](const QModelIndex& index) {
            m_session.selectRow(index.data(DataRowRole).toULongLong());
        });
    connect(m_outlying, &GridView::opened, this,
            [this](const QModelIndex& index) { m_session.openRow(index.data(DataRowRole).toULongLong()); });
    connect(m_leftOut, &GridView::opened, this,
            [this](const QModelIndex& index) { m_session.putBack(index.data(DataRowRole).toULongLong()); });
    return lower;
}

void CheckStation::leaveOut() {
    const auto row = m_session.selectedRow();
    if (!row) return;
    if (m_pane == "words") return;
    if (m_pane == "left out") {
        m_session.putBack(*row);
        return;
    }
    const std::string reason = ss(m_reason->text().trimmed());
    if (reason.empty()) {
        m_reason->setFocus();
        return;
    }
    Recipe recipe = m_session.draft();
    recipe.leaveOut.push_back({*row + 1, reason});
    m_reason->clear();
    m_session.change(recipe);
}

void CheckStation::showPane(const QString& name) {
    if (name != m_pane || m_splitter->sizes()[0] == 0) // a row has more to say than a list
        m_splitter->setSizes(name == "row" || name == "readings" ? QList<int>{270, 300}
                                                                 : QList<int>{360, 210});
    m_pane = name;
    for (std::size_t i = 0; i < m_tabs.size(); ++i) {
        const bool shown = m_tabs[i]->property("table").toString() == name;
        m_tabs[i]->setChecked(shown);
        m_tabs[i]->setStyleSheet(shown ? "font-weight: 600; color: #1F2A2C;" : "");
        if (shown) m_panes->setCurrentIndex(static_cast<int>(i));
    }
    refreshPane();
    showSelection();
    m_copy->setVisible(name == "words");
    if (name == "words" && isVisible()) m_panes->currentWidget()->setFocus();
}

void CheckStation::refreshPane() {
    if (m_pane == "rows") {
        m_outlyingModel.setContent(outlyingGrid(m_session));
        m_outlying->fitColumns();
    } else if (m_pane == "readings") {
        m_readingsModel.setContent(readingsGrid(m_session));
        m_readings->fitColumns(700);
    } else if (m_pane == "row") {
        m_row->refresh();
    } else if (m_pane == "left out") {
        m_leftOutModel.setContent(leftOutGrid(m_session));
        m_leftOut->fitColumns(500);
    } else if (m_session.evidence()) {
        m_words->setText(qs(summaryText(*m_session.evidence(), m_session.recipe())));
    } else {
        m_words->setText(tr("There is no fit to speak of yet."));
    }
}

void CheckStation::fillBoxes() {
    const auto& evidence = m_session.evidence();
    QStringList up, across, groups{noGroups};
    for (const ResidualKind kind : residualKinds(*evidence))
        up << qs(std::string(residualName(kind)));
    const bool timed = residualTime(m_session.recipe(), m_session.table()) != nullptr;
    for (const Along& each : alongChoices())
        if ((each.against != ResidualAgainst::leverage || evidence->linear) &&
            (each.against != ResidualAgainst::time || timed))
            across << each.text;
    for (const LedgerLine& line : m_session.ledger().columns) {
        if (line.summary.kind != ColumnKind::text) across << qs(line.summary.name);
        if (line.summary.kind == ColumnKind::factor) groups << tr("by %1").arg(qs(line.summary.name));
    }
    const auto& view = m_session.view();
    const auto wanted = [&](const char* key, const QStringList& choices) {
        const auto found = view.find(key);
        const QString text = found == view.end() ? choices[0] : qs(found->second);
        return choices.contains(text) ? text : choices[0];
    };
    const std::array<QSignalBlocker, 4> blockers{QSignalBlocker(m_up), QSignalBlocker(m_across),
                                                 QSignalBlocker(m_groups), QSignalBlocker(m_besideBox)};
    for (const auto& [box, items, key] :
         {std::tuple{m_up, up, "check.up"}, std::tuple{m_across, across, "check.across"},
          std::tuple{m_groups, groups, "check.by"}}) {
        const QString choice = wanted(key, items);
        fillBox(*box, items, choice);
        box->setCurrentText(choice);
    }
    m_besideBox->setCurrentText(
        wanted("check.beside", {besideDistribution, besideQuantiles, besideCalibration}));
}

void CheckStation::refresh() {
    refreshPane();
    if (!m_session.evidence()) {
        m_jobs.drop();
        m_main->setCurrentWidget(m_plot);
        m_plot->clear(tr("There is no fit to check yet. Tick columns in Fit."));
        m_distribution->clear(tr("Nothing to count yet."));
        m_says->setText({});
        showSelection();
        return;
    }
    fillBoxes();
    draw();
    showSelection();
}

void CheckStation::showColumn(const QString& column) {
    if (isVisible()) {
        if (m_across->findText(column) >= 0) m_across->setCurrentText(column);
    } else if (!column.isEmpty()) {
        m_session.view()["check.across"] = ss(column);
    }
}

void CheckStation::draw() {
    const auto evidence = m_session.evidence();
    if (!evidence) return;
    CheckRequest request;
    request.evidence = evidence;
    request.prepared = m_session.prepared();
    request.rows = m_session.rows();
    request.recipe = m_session.recipe();
    request.unit = m_session.unit(evidence->response);
    for (const ResidualKind kind : residualKinds(*evidence))
        if (qs(std::string(residualName(kind))) == m_up->currentText()) request.residuals.kind = kind;
    request.residuals.against = ResidualAgainst::column;
    request.residuals.column = ss(m_across->currentText());
    request.acrossTitle = m_session.titled(request.residuals.column);
    // Names of columns go before words of ours.
    if (!m_session.table().find(request.residuals.column))
        for (const Along& each : alongChoices())
            if (each.text == m_across->currentText()) request.residuals.against = each.against;
    if (request.residuals.against == ResidualAgainst::time)
        if (const Column* time = residualTime(request.recipe, request.prepared->table))
            request.acrossTitle = m_session.titled(time->name());
    const QString by = m_groups->currentText();
    if (by != noGroups)
        for (const Column& column : m_session.table().columns())
            if (by == tr("by %1").arg(qs(column.name()))) request.group = column.name();
    request.residuals.quantiles = m_besideBox->currentText() == besideQuantiles;
    request.beside = request.residuals.quantiles                       ? CheckRequest::Beside::quantiles
                     : m_besideBox->currentText() == besideCalibration ? CheckRequest::Beside::calibration
                                                                       : CheckRequest::Beside::distribution;
    m_plot->setDescription(rowDescription());
    m_distribution->setDescription(rowDescription());
    // Of many rows, and with quantiles, the picture is put together beside the window.
    m_jobs.drop();
    constexpr std::size_t many = 3000;
    if (!request.residuals.quantiles && evidence->rows.state.size() <= many) {
        Progress quiet;
        show(checkPicture(request, quiet));
        return;
    }
    m_jobs.start(tr("Drawing"), [this, request](Progress& progress) -> Jobs::Finish {
        auto picture = std::make_shared<CheckPicture>(checkPicture(request, progress));
        return [this, picture] { show(std::move(*picture)); };
    });
}

void CheckStation::show(CheckPicture picture) {
    if (picture.plot.xTitle.isEmpty()) return;
    m_says->setText(picture.says);
    m_says->setToolTip(picture.says.toHtmlEscaped());
    const bool panels = !picture.panels.empty();
    m_main->setCurrentWidget(panels ? static_cast<QWidget*>(m_panels) : m_plot);
    m_plot->show(std::move(picture.plot));
    const auto range = m_plot->extent();
    if (picture.beside.yTitle.isEmpty()) picture.beside.yRange = {range[2], range[3]}; // the same scale
    if (picture.beside.marks.empty() && picture.beside.bars.empty())
        m_distribution->clear(tr("Nothing to count."));
    else
        m_distribution->show(std::move(picture.beside));
    if (panels) {
        std::vector<LookPicture::Panel> shown;
        for (auto& [title, content] : picture.panels)
            shown.push_back({title, std::move(content)});
        m_panels->show(std::move(shown), 3, {}, [this](PlotFrame& frame) {
            frame.setDescription(rowDescription());
            link(frame);
        });
        for (PlotFrame* frame : m_panels->frames())
            showSelectionIn(*frame);
    }
    showSelectionIn(*m_plot);
    showSelectionIn(*m_distribution);
}

void CheckStation::showSelection() {
    const auto row = m_session.selectedRow();
    showSelectionIn(*m_plot);
    if (m_distribution->isVisible()) showSelectionIn(*m_distribution);
    const auto& evidence = m_session.evidence();
    const bool known = row && evidence && *row < evidence->rows.state.size();
    const bool back = known && m_pane == "left out" && evidence->rows.leftOutBy[*row] < 0;
    const bool out = known && m_pane != "left out" && m_pane != "words";
    m_leaveOut->setVisible(back || out);
    m_leaveOut->setText(back ? tr("put it back") : tr("leave out"));
    m_reason->setVisible(out);
    if (m_pane == "row" && isVisible()) m_row->refresh();
    if (!known) {
        m_selected->setText(m_pane == "words" ? tr("Ctrl+C copies it.")
                                              : tr("Click a mark to select its row everywhere."));
        return;
    }
    const QString text = tr("row %1").arg(qs(countText(*row + 1))) +
                         (m_pane == "row" ? QString() : " · " + rowDescription()(*row));
    constexpr int widest = 170;
    m_selected->setText(m_selected->fontMetrics().elidedText(text, Qt::ElideRight, widest));
    m_selected->setToolTip(text.toHtmlEscaped());
    for (int i = 0; i < m_outlyingModel.rowCount(); ++i)
        if (m_outlyingModel.index(i, 0).data(DataRowRole).toULongLong() == *row &&
            m_outlying->currentIndex().row() != i)
            m_outlying->setCurrentIndex(m_outlyingModel.index(i, 0));
}

} // namespace oxgoad

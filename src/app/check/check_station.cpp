#include "app/check/check_station.h"

#include "app/parts.h"
#include "base/text.h"
#include "look/distribution.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLineEdit>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

namespace {

// The first choices along each axis; columns follow.
const QStringList& acrossChoices() {
    static const QStringList choices{"predicted", "row number", "leverage"};
    return choices;
}
const QStringList& upChoices() {
    static const QStringList choices{"residual", "studentised residual", "actual", "out-of-fold residual"};
    return choices;
}

struct CheckRequest {
    std::shared_ptr<const Evidence> evidence;
    std::shared_ptr<const PreparedRows> prepared;
    QString across, up;
    /// Name and unit of the column along the plot.
    QString acrossTitle;
    QString unit;
};

CheckPicture checkPicture(const CheckRequest& request, Progress& progress) {
    const Evidence& evidence = *request.evidence;
    const RowEvidence& rows = evidence.rows;
    const QString unit = request.unit.isEmpty() ? QString() : ", " + request.unit;
    CheckPicture picture;
    PlotFrame::Content& content = picture.plot;
    std::function<double(std::size_t)> x;
    if (request.across == acrossChoices()[0]) {
        x = [&rows](std::size_t i) { return rows.fitted[i]; };
        content.xTitle = QObject::tr("predicted %1").arg(qs(evidence.response)) + unit;
    } else if (request.across == acrossChoices()[1]) {
        x = [](std::size_t i) { return static_cast<double>(i + 1); };
        content.xTitle = QObject::tr("row number");
    } else if (request.across == acrossChoices()[2] && evidence.linear) {
        x = [&leverage = evidence.linear->rows.leverage](std::size_t i) { return leverage[i]; };
        content.xTitle = QObject::tr("leverage");
    } else {
        const Column* column = request.prepared->table.find(ss(request.across));
        if (!column) return picture;
        const bool factor = column->kind() == ColumnKind::factor;
        x = [column, factor](std::size_t i) {
            return column->asNumber(i) +
                   (factor ? 0.5 * (static_cast<double>((i * 2654435761U) % 1000) / 1000 - 0.5) : 0);
        };
        content.xTitle = request.acrossTitle;
        content.xIsDate = column->kind() == ColumnKind::date;
        if (factor)
            for (const auto& level : column->levels())
                content.xLevels << qs(level);
    }
    const std::vector<double>* up = &rows.residual;
    std::vector<double> outOfFold;
    content.yTitle = evidence.logResponse ? QObject::tr("residual, ln actual − ln predicted")
                                          : QObject::tr("residual, actual − predicted") + unit;
    content.zeroLine = true;
    if (request.up == upChoices()[1] && evidence.linear) {
        up = &evidence.linear->rows.studentized;
        content.yTitle = QObject::tr("studentised residual");
    } else if (request.up == upChoices()[2]) {
        up = &rows.actual;
        content.yTitle = QObject::tr("actual %1").arg(qs(evidence.response)) + unit;
        content.zeroLine = false;
    }
    if (request.up == upChoices()[3] && evidence.folds) {
        outOfFold.resize(rows.state.size());
        for (std::size_t i = 0; i < outOfFold.size(); ++i)
            outOfFold[i] = rows.actual[i] - evidence.folds->outOfFold[i];
        up = &outOfFold;
        content.yTitle = QObject::tr("out of fold, actual − predicted") + unit;
    }
    content.marks =
        Station::marksOf(&evidence, rows.state.size(), x, [up](std::size_t i) { return (*up)[i]; });
    progress.checkpoint(0.3, {});
    if (up == &rows.actual && request.across == acrossChoices()[0]) { // where actual equals predicted
        double low = 1e300, high = -1e300;
        for (const double v : rows.fitted)
            if (std::isfinite(v)) {
                low = std::min(low, v);
                high = std::max(high, v);
            }
        content.lines.push_back({QObject::tr("actual = predicted"),
                                 {low, high},
                                 {low, high},
                                 theme::quiet,
                                 Qt::DashLine,
                                 {},
                                 1.2});
    }
    content.summary =
        QObject::tr("%1 against %2, %3 rows")
            .arg(content.yTitle, content.xTitle, qs(countText(evidence.rowsLearning + evidence.rowsHeldOut)));
    std::vector<double> values;
    for (const auto& marks : content.marks)
        values.insert(values.end(), marks.y.begin(), marks.y.end());
    PlotFrame::Content& beside = picture.beside;
    beside.legend = false;
    beside.xTitle = QObject::tr("rows");
    if (const auto h = histogram(std::move(values))) {
        PlotFrame::Bars bars;
        bars.low = h->low;
        bars.width = h->width;
        bars.heights.assign(h->counts.begin(), h->counts.end());
        bars.sideways = true;
        beside.bars.push_back(std::move(bars));
    }
    beside.summary = QObject::tr("Distribution of %1").arg(content.yTitle);
    return picture;
}

} // namespace

CheckStation::CheckStation(Session& session, QWidget* parent) : Station(session, "check", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 6);
    auto* head = new QHBoxLayout;
    m_up = plainBox(tr("Up the plot"), "up", this);
    m_up->addItems(upChoices());
    m_up->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    m_across = plainBox(tr("Along the plot"), "across", this);
    head->addWidget(m_up);
    head->addWidget(plainLabel(tr("against")));
    head->addWidget(m_across);
    head->addStretch(1);
    m_selected = plainLabel(tr("Click a mark to select its row everywhere."), "hint");
    head->addWidget(m_selected);
    m_reason = new QLineEdit(this);
    m_reason->setObjectName("leaveOutReason");
    m_reason->setPlaceholderText(tr("reason to leave it out"));
    m_reason->setAccessibleName(tr("Reason to leave the selected row out"));
    m_reason->setFixedWidth(170);
    m_leaveOut = linkButton(tr("leave out"), this);
    m_leaveOut->setObjectName("link");
    m_leaveOut->setProperty("leaveOut", true);
    head->addWidget(m_reason);
    head->addWidget(m_leaveOut);
    layout->addLayout(head);

    auto* splitter = new QSplitter(Qt::Vertical, this);
    splitter->setHandleWidth(1);
    auto* plots = new QSplitter(Qt::Horizontal, splitter);
    plots->setHandleWidth(1);
    m_plot = new PlotFrame(tr("Residual plot"), plots);
    m_plot->setObjectName("checkPlot");
    m_distribution = new PlotFrame(tr("Distribution"), plots);
    plots->addWidget(m_plot);
    plots->addWidget(m_distribution);
    plots->setStretchFactor(0, 7);
    plots->setStretchFactor(1, 2);
    plots->setSizes({680, 190});
    splitter->addWidget(plots);
    auto* lower = new QWidget(splitter);
    auto* lowerLayout = new QVBoxLayout(lower);
    lowerLayout->setContentsMargins(0, 4, 0, 0);
    lowerLayout->setSpacing(2);
    auto* choice = new QHBoxLayout;
    auto tab = [&](const QString& text, const QString& name) {
        auto* button = linkButton(text, lower);
        button->setProperty("table", name);
        button->setCheckable(true);
        choice->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, name] { showTable(name); });
        return button;
    };
    m_showRows = tab(tr("rows that stand out"), "rows");
    m_showReadings = tab(tr("readings of the checks"), "readings");
    choice->addStretch(1);
    lowerLayout->addLayout(choice);
    m_tables = new QStackedWidget(lower);
    m_outlying = new GridView(tr("Rows that stand out"), m_tables);
    m_outlying->setObjectName("outlying");
    m_outlying->setModel(&m_outlyingModel);
    m_readings = new GridView(tr("Readings of the checks"), m_tables);
    m_readings->setObjectName("readings");
    m_readings->setModel(&m_readingsModel);
    m_tables->addWidget(m_outlying);
    m_tables->addWidget(m_readings);
    lowerLayout->addWidget(m_tables);
    splitter->addWidget(lower);
    showTable("rows");
    splitter->setSizes({370, 190});
    layout->addWidget(splitter, 1);

    for (QComboBox* box : {m_across, m_up})
        connect(box, &QComboBox::currentTextChanged, this, [this] {
            m_session.view()["check.across"] = ss(m_across->currentText());
            m_session.view()["check.up"] = ss(m_up->currentText());
            draw();
        });
    link(*m_plot);
    connect(&m_jobs, &Jobs::failed, &session, &Session::failed);
    connect(m_outlying, &GridView::lineChosen, this,
            [this](const QModelIndex& index) { m_session.selectRow(index.data(DataRowRole).toULongLong()); });
    connect(&session, &Session::selectionChanged, this, &CheckStation::showSelection);
    auto leaveOut = [this] {
        const auto row = m_session.selectedRow();
        const std::string reason = ss(m_reason->text().trimmed());
        if (!row) return;
        if (reason.empty()) {
            m_reason->setFocus();
            return;
        }
        Recipe recipe = m_session.draft();
        recipe.leaveOut.push_back({*row + 1, reason});
        m_reason->clear();
        m_session.change(recipe);
    };
    connect(m_leaveOut, &QPushButton::clicked, this, leaveOut);
    connect(m_reason, &QLineEdit::returnPressed, this, leaveOut);
}

void CheckStation::showTable(const QString& name) {
    const bool rows = name == "rows";
    m_tables->setCurrentWidget(rows ? m_outlying : m_readings);
    for (QPushButton* button : {m_showRows, m_showReadings}) {
        const bool shown = (button == m_showRows) == rows;
        button->setChecked(shown);
        button->setStyleSheet(shown ? "font-weight: 600; color: #1F2A2C;" : "");
    }
}

void CheckStation::refresh() {
    const auto& evidence = m_session.evidence();
    m_outlyingModel.setContent(outlyingGrid(m_session));
    m_readingsModel.setContent(readingsGrid(m_session));
    m_outlying->fitColumns();
    m_readings->fitColumns(600);
    if (!evidence) {
        m_plot->clear(tr("There is no fit to check yet. Tick columns in Fit."));
        m_distribution->clear(tr("Nothing to count yet."));
        showSelection();
        return;
    }
    // Leverages and what is made of them are of models with coefficients.
    const bool linear = evidence->linear.has_value();
    QStringList across = acrossChoices(), up = upChoices();
    if (!evidence->folds) up.removeAt(3);
    if (!linear) {
        across.removeAt(2);
        up.removeAt(1);
    }
    for (const LedgerLine& line : m_session.ledger().columns)
        if (line.summary.kind != ColumnKind::text) across << qs(line.summary.name);
    const auto& view = m_session.view();
    const QString wanted = view.contains("check.across") ? qs(view.at("check.across")) : across[0];
    fillBox(*m_across, across, across.contains(wanted) ? wanted : across[0]);
    const QString upWanted = view.contains("check.up") ? qs(view.at("check.up")) : up[0];
    fillBox(*m_up, up, up[0]);
    const QSignalBlocker blocker(m_up);
    m_up->setCurrentText(up.contains(upWanted) ? upWanted : up[0]);
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
    CheckRequest request{evidence,
                         m_session.prepared(),
                         m_across->currentText(),
                         m_up->currentText(),
                         {},
                         m_session.unit(evidence->response)};
    if (const Column* column = m_session.table().find(ss(request.across)))
        request.acrossTitle = m_session.titled(column->name());
    m_plot->setDescription(rowDescription());
    // Of many rows the marks and their distribution are put together beside the window.
    constexpr std::size_t many = 20000;
    m_jobs.drop();
    if (evidence->rows.state.size() <= many) {
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
    m_plot->show(std::move(picture.plot));
    const auto range = m_plot->extent();
    picture.beside.yRange = {range[2], range[3]};
    m_distribution->show(std::move(picture.beside));
    showSelectionIn(*m_plot);
}

void CheckStation::showSelection() {
    const auto row = m_session.selectedRow();
    showSelectionIn(*m_plot);
    const auto& evidence = m_session.evidence();
    m_leaveOut->setVisible(row && evidence);
    m_reason->setVisible(row && evidence);
    if (!row || !evidence) {
        m_selected->setText(tr("Click a mark to select its row everywhere."));
        return;
    }
    const RowEvidence& rows = evidence->rows;
    m_selected->setText(tr("row %1 · %2 · actual %3, predicted %4")
                            .arg(qs(countText(*row + 1)), rowDescription()(*row),
                                 qs(readableText(rows.actual[*row])), qs(readableText(rows.fitted[*row]))));
    for (int i = 0; i < m_outlyingModel.rowCount(); ++i)
        if (m_outlyingModel.index(i, 0).data(DataRowRole).toULongLong() == *row &&
            m_outlying->currentIndex().row() != i)
            m_outlying->setCurrentIndex(m_outlyingModel.index(i, 0));
}

} // namespace oxgoad

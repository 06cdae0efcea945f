#include "app/forecast/forecast_station.h"

#include "app/forecast/hand_on_pane.h"
#include "app/forecast/made_dialog.h"
#include "app/forecast/one_row_pane.h"
#include "app/forecast/questions_pane.h"
#include "app/parts.h"
#include "base/file.h"
#include "base/text.h"
#include "share/exports.h"
#include "study/forecast_answers.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QDate>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

namespace oxgoad {

ForecastStation::ForecastStation(Session& session, FileChooser& files, QWidget* parent)
    : Station(session, "forecast", parent), m_files(files) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 6);
    auto* head = new QHBoxLayout;
    m_head = plainLabel({}, "heading");
    m_head->setWordWrap(true); // at 1280 there is no room for all in one line
    m_head->setMinimumWidth(170);
    head->addWidget(m_head, 1);
    m_show = plainBox(tr("Chart"), "chart", this);
    head->addWidget(m_show);
    m_below = plainBox(tr("Below the chart"), "below", this);
    m_below->addItems({tr("rows"), tr("cross table"), tr("what if"), tr("how far it reaches"), tr("one row"),
                       tr("hand on")});
    connect(m_below, &QComboBox::currentIndexChanged, this, &ForecastStation::showBelow);
    head->addWidget(m_below);
    auto* choose = new QPushButton(tr("Choose rows…"), this);
    choose->setObjectName("chooseForecast");
    connect(choose, &QPushButton::clicked, this, &Station::forecastRowsWanted);
    head->addWidget(choose);
    auto* make = new QPushButton(tr("Make rows…"), this);
    make->setObjectName("makeForecast");
    make->setToolTip(tr("Rows for the next periods, made of those that there are"));
    connect(make, &QPushButton::clicked, this, &ForecastStation::makeRows);
    head->addWidget(make);
    m_written = plainLabel({}, "hint");
    head->addWidget(m_written);
    m_export = new QPushButton(tr("Export as text…"), this);
    m_export->setObjectName("exportForecast");
    m_export->setToolTip(
        tr("The given columns with prediction, intervals, reach and reasons, as comma-separated text"));
    connect(m_export, &QPushButton::clicked, this, &ForecastStation::exportCsv);
    head->addWidget(m_export);
    auto* handOn = new QPushButton(tr("Hand on…"), this);
    handOn->setObjectName("handOn");
    handOn->setToolTip(tr("The model as a workbook, for a database, as a program, as a report"));
    connect(handOn, &QPushButton::clicked, this, [this] {
        m_below->setCurrentIndex(m_below->count() - 1);
        m_handOn->focusTarget()->setFocus(Qt::OtherFocusReason);
    });
    head->addWidget(handOn);
    layout->addLayout(head);
    m_came = plainLabel({}, "hint");
    m_came->setObjectName("cameOfIt");
    m_came->setWordWrap(true);
    auto* came = new QHBoxLayout;
    came->addWidget(m_came, 1);
    m_keepCame = linkButton(tr("keep what came of it"), this);
    m_keepCame->setObjectName("keepCame");
    m_keepCame->setToolTip(tr("In the project, so that all deliveries are told together"));
    connect(m_keepCame, &QPushButton::clicked, this, [this] {
        Delivery delivery = m_session.evidence()->answers->came->delivery;
        delivery.on = ss(QDate::currentDate().toString(Qt::ISODate));
        m_session.keepDelivery(delivery);
        refresh();
    });
    came->addWidget(m_keepCame, 0, Qt::AlignTop);
    layout->addLayout(came);
    auto* splitter = new QSplitter(Qt::Vertical, this);
    splitter->setHandleWidth(1);
    m_chart = new PlotFrame(tr("Forecast chart"), splitter);
    m_chart->setObjectName("forecastPlot");
    m_table = new GridView(tr("Rows to forecast"), splitter);
    m_table->setObjectName("forecastTable");
    m_table->setModel(&m_model);
    splitter->addWidget(m_chart);
    splitter->addWidget(m_table);
    m_questions = new QuestionsPane(session, splitter);
    m_questions->hide();
    splitter->addWidget(m_questions);
    m_oneRow = new OneRowPane(session, splitter);
    m_oneRow->setObjectName("oneRowPane");
    m_oneRow->hide();
    splitter->addWidget(m_oneRow);
    m_handOn = new HandOnPane(session, files, splitter);
    m_handOn->setObjectName("handOnPane");
    m_handOn->hide();
    splitter->addWidget(m_handOn);
    splitter->setSizes({260, 300, 300, 300, 300});
    layout->addWidget(splitter, 1);
    connect(m_show, &QComboBox::currentTextChanged, this, &ForecastStation::drawChart);
}

QWidget* ForecastStation::focusTarget() {
    return m_table;
}

void ForecastStation::showBelow(int what) {
    m_table->setVisible(what == 0);
    const int handOn = m_below->count() - 1;
    m_handOn->setVisible(what == handOn);
    if (what == handOn) m_handOn->refresh();
    const int oneRow = handOn - 1;
    m_oneRow->setVisible(what == oneRow);
    if (what == oneRow) m_oneRow->refresh();
    m_questions->setVisible(what > 0 && what < oneRow);
    if (what > 0 && what < oneRow) m_questions->ask(static_cast<QuestionsPane::Question>(what - 1));
}

void ForecastStation::refresh() {
    const auto& evidence = m_session.evidence();
    const bool there = evidence && evidence->forecast;
    m_export->setEnabled(there);
    m_written->clear(); // what was written is of another forecast
    m_show->setVisible(there);
    m_below->setVisible(evidence != nullptr);
    // A model can be asked about a row, and handed on, without a forecast.
    if (!there && m_below->currentIndex() < m_below->count() - 2) m_below->setCurrentIndex(0);
    if (m_oneRow->isVisible()) m_oneRow->refresh();
    if (m_handOn->isVisible()) m_handOn->refresh();
    if (m_questions->isVisible()) m_questions->refresh();
    const int columns = m_model.columnCount();
    const int lines = m_model.rowCount();
    m_model.setContent(forecastGrid(m_session));
    if (columns != m_model.columnCount() || lines != m_model.rowCount()) m_table->fitColumns(200);
    QStringList said;
    const WhatCame* came =
        there && evidence->answers && evidence->answers->came ? &*evidence->answers->came : nullptr;
    if (came) said << qs(came->says);
    if (came && !came->soFar.empty()) said << qs(came->soFar);
    const auto& kept = m_session.recipe().deliveries;
    m_keepCame->setVisible(came && std::none_of(kept.begin(), kept.end(), [&](const Delivery& d) {
                               return d.fingerprint == came->delivery.fingerprint;
                           }));
    if (there && evidence->answers && evidence->answers->damped) said << qs(evidence->answers->damped->says);
    m_came->setText(said.join(' '));
    m_came->setVisible(!said.isEmpty());
    if (!there) {
        m_head->setText(tr("Nothing to forecast yet"));
        m_chart->clear(
            evidence ? tr("Choose a file with rows whose %1 is not known yet.").arg(qs(evidence->response))
                     : tr("Fit a model first, then choose rows to forecast."));
        return;
    }
    const ForecastEvidence& f = *evidence->forecast;
    m_head->setText(tr("%1: %2 inside, %3 at the edge, %4 outside%5")
                        .arg(qs(plural(f.prediction.size(), "row", "rows")), qs(countText(f.inside)),
                             qs(countText(f.edge)), qs(countText(f.outside)),
                             f.unpredicted
                                 ? tr(", %1 of them without a prediction").arg(qs(countText(f.unpredicted)))
                                 : QString()));
    m_head->setToolTip(qs(unpredictedText(f)).toHtmlEscaped());
    QStringList charts;
    if (!f.coming.empty()) charts << tr("totals by %1").arg(qs(f.totalsBy));
    charts << tr("row by row");
    fillBox(*m_show, charts, charts[0]);
    m_show->setMinimumWidth(m_show->sizeHint().width());
    drawChart();
}

void ForecastStation::drawChart() {
    const auto& evidence = m_session.evidence();
    if (!evidence || !evidence->forecast) return;
    const ForecastEvidence& forecast = *evidence->forecast;
    const bool totals = m_show->currentIndex() == 0 && !forecast.coming.empty();
    // Thousands of marks on each other hide how many there are, and the intervals behind them.
    constexpr double toldApart = 1500, faintest = 0.25;
    const auto rows = static_cast<double>(forecast.prediction.size());
    m_chart->setMarkOpacity(totals || rows <= toldApart ? 1 : std::max(faintest, toldApart / rows));
    if (totals)
        drawTotals(forecast);
    else
        drawRows(forecast);
}

void ForecastStation::drawTotals(const ForecastEvidence& forecast) {
    const std::string& response = m_session.evidence()->response;
    PlotFrame::Content content;
    content.xIsDate = true;
    content.xTitle = qs(forecast.totalsBy);
    const LinearModel* model = m_session.evidence()->study->linear();
    content.yTitle =
        model && model->isQuantile() // which is not the quantile of the sum
            ? tr("sum of %1 quantiles of %2").arg(qs(percentText(model->share)), m_session.titled(response))
            : forecast.unpredicted > 0
                  ? tr("total %1, of rows with a prediction").arg(m_session.titled(response))
                  : tr("total %1").arg(m_session.titled(response));
    m_chart->setMinimumHeight(180);
    PlotFrame::Line history{tr("actual"), {}, {}, theme::ink, Qt::SolidLine, {}, 1.6};
    for (const PeriodTotal& t : forecast.history) {
        history.x.push_back(t.day);
        history.y.push_back(t.actual);
    }
    PlotFrame::Band band;
    PlotFrame::Marks inside{
        tr("forecast, all rows inside or at the edge"), theme::Mark::forecastInside, {}, {}, {}};
    PlotFrame::Marks outside{tr("forecast, some rows outside"), theme::Mark::forecastOutside, {}, {}, {}};
    PlotFrame::Line coming{{}, {}, {}, theme::forecast, Qt::SolidLine, {}, 1.4};
    for (const PeriodTotal& t : forecast.coming) {
        if (t.rows == 0) continue;
        if (std::isfinite(t.lower)) { // quantiles do not add up
            band.x.push_back(t.day);
            band.low.push_back(t.lower);
            band.high.push_back(t.upper);
        }
        coming.x.push_back(t.day);
        coming.y.push_back(t.predicted);
        PlotFrame::Marks& marks = t.outside > 0 ? outside : inside;
        marks.x.push_back(t.day);
        marks.y.push_back(t.predicted);
    }
    if (!band.x.empty()) content.bands.push_back(std::move(band));
    content.lines = {std::move(history), std::move(coming)};
    for (PlotFrame::Marks* marks : {&inside, &outside})
        if (!marks->x.empty()) content.marks.push_back(std::move(*marks));
    content.summary = tr("Totals of %1 by %2; the band is the %3 interval of each total")
                          .arg(qs(response), qs(forecast.totalsBy), qs(percentText(forecast.level)));
    m_chart->setToolTip(content.summary.toHtmlEscaped());
    m_chart->show(std::move(content));
}

void ForecastStation::drawRows(const ForecastEvidence& forecast) {
    const std::string& response = m_session.evidence()->response;
    PlotFrame::Content content;
    content.xTitle = tr("row to forecast");
    content.yTitle = m_session.titled(response);
    PlotFrame::Marks inside{tr("inside"), theme::Mark::forecastInside, {}, {}, {}};
    PlotFrame::Marks edge{tr("at the edge"), theme::Mark::forecastEdge, {}, {}, {}};
    PlotFrame::Marks outside{tr("outside what was learned from"), theme::Mark::forecastOutside, {}, {}, {}};
    PlotFrame::Band band;
    for (std::size_t i = 0; i < forecast.prediction.size(); ++i) {
        if (std::isnan(forecast.prediction[i])) continue;
        const ReachGrade grade = forecast.reach[i].grade;
        PlotFrame::Marks& marks = grade == ReachGrade::outside ? outside
                                  : grade == ReachGrade::edge  ? edge
                                                               : inside;
        marks.x.push_back(static_cast<double>(i + 1));
        marks.y.push_back(forecast.prediction[i]);
        if (!std::isfinite(forecast.lower[i])) continue;
        band.x.push_back(static_cast<double>(i + 1));
        band.low.push_back(forecast.lower[i]);
        band.high.push_back(forecast.upper[i]);
    }
    if (!band.x.empty()) content.bands.push_back(std::move(band));
    for (PlotFrame::Marks* marks : {&inside, &edge, &outside})
        if (!marks->x.empty()) content.marks.push_back(std::move(*marks));
    content.summary = tr("Forecast of %1 row by row; the band is the %2 interval of a single value")
                          .arg(qs(response), qs(percentText(forecast.level)));
    m_chart->setToolTip(content.summary.toHtmlEscaped());
    m_chart->show(std::move(content));
}

void ForecastStation::showColumn(const QString&) {
    for (int row = 0; row < m_model.rowCount(); ++row) { // the first row that is outside
        const auto& evidence = m_session.evidence();
        if (evidence && evidence->forecast &&
            evidence->forecast->reach[static_cast<std::size_t>(row)].grade == ReachGrade::outside) {
            m_table->setCurrentIndex(m_model.index(row, 0));
            m_table->scrollTo(m_model.index(row, 0), QAbstractItemView::PositionAtTop);
            return;
        }
    }
}

void ForecastStation::makeRows() {
    if (!m_session.rows() || m_session.draft().response.empty()) return;
    auto* dialog = new MadeDialog(m_session, this);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    connect(dialog, &QDialog::accepted, this, [this, dialog] {
        if (const auto made = dialog->made()) m_session.makeForecast(*made);
    });
    dialog->open();
}

void ForecastStation::exportCsv() {
    const auto evidence = m_session.evidence();
    const auto rows = m_session.rows();
    if (!evidence || !evidence->forecast || !rows->forecast) return;
    const QString path =
        m_files.saveFile(this, tr("Export the forecast"), "forecast.csv", tr("Comma-separated text (*.csv)"));
    if (path.isEmpty()) return;
    m_session.saveJobs().start(
        tr("Exporting"), [this, path, evidence, rows](Progress& progress) -> Jobs::Finish {
            const std::string bytes = forecastCsv(*evidence, rows->forecast->table);
            progress.checkpoint(0.8, "Writing");
            replaceFile(ss(path), bytes);
            return [this, path] { m_written->setText(tr("written to %1").arg(QFileInfo(path).fileName())); };
        });
}

} // namespace oxgoad

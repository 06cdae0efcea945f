#pragma once
// The brief: one plain sentence that states the whole model, every bold part a control.
#include "workspace/session.h"

#include <QPushButton>
#include <QTimer>
#include <QWidget>

namespace oxgoad {

class FlowLayout;

class BriefBar : public QWidget {
    Q_OBJECT
public:
    explicit BriefBar(Session& session, QWidget* parent = nullptr);
    /// The sentence as plain text.
    QString sentence() const;
    /// Whether the forecast is told instead of the model.
    void tellForecast(bool forecast);

signals:
    void termsWanted();
    void openWanted();
    void forecastRowsWanted();

private:
    void rebuild();
    void addWord(const QString& text);
    void addStrong(const QString& text);
    QPushButton* addPart(const QString& name, const QString& text,
                         const std::function<void(QPushButton*)>& act);
    void tellModel();
    /// How it is judged and what came out.
    void tellJudging();
    void tellFolds(const FoldEvidence& folds);
    void tellHeldOut(const Evidence& evidence);
    /// "typically off by 14,162 ± 310 EUR".
    void addError(double rmse, double error);
    void tellForecastSentence();
    void chooseResponse(QPushButton* at);
    void chooseEstimator(QPushButton* at);
    /// Asks for the settings of a kind of model.
    void askSettings(const std::string& kind);
    void chooseRows(QPushButton* at);
    /// Deals again, or opens the dialog about judging.
    void chooseFolds(QPushButton* at);
    void chooseLevel(QPushButton* at);

    Session& m_session;
    FlowLayout* m_flow;
    /// Told when a newer fit takes longer than a moment: what is shown is of the one before.
    QTimer m_stale;
    bool m_forecast = false;
};

} // namespace oxgoad

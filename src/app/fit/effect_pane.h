#pragma once
#include "app/plots/plot_frame.h"
#include "study/effects.h"
#include "study/marginal_effects.h"
#include "workspace/session.h"

#include <QWidget>

class QLabel;
class QPushButton;

namespace oxgoad {

/// The effect of a column, or of a pair, with its band, partial residuals and where the rows lie; the other
/// columns held at values that can be changed.
class EffectPane : public QWidget {
    Q_OBJECT
public:
    EffectPane(Session& session, QWidget* parent);
    PlotFrame& plot() { return *m_plot; }
    /// Works out and shows the effect; `by` is empty for a column alone.
    void showEffect(const std::string& column, const std::string& by);
    void clear(const QString& why);

private:
    struct Found {
        Effect effect;
        std::vector<MarginalEffect> average;
    };
    void start();
    void draw(std::shared_ptr<const Found> found);
    static void drawSorted(const EffectLine& line, const std::vector<std::string>& levels,
                           const std::vector<double>& places, PlotFrame::Content& content);
    void sayHeld(const Effect& effect);
    QString averageText(const Found& found) const;
    void chooseHeld();
    void askHeld(const HeldValue& value, const std::function<void(double)>& take);
    std::map<std::string, double> held() const;

    Session& m_session;
    PlotFrame* m_plot;
    QLabel* m_average;
    QLabel* m_held;
    QPushButton* m_hold;
    std::string m_column, m_by;
    std::vector<HeldValue> m_values;
    std::shared_ptr<const Evidence> m_shown;
    std::string m_shownFor;
};

} // namespace oxgoad

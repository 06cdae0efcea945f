#pragma once
// From readings of the core to what a plot of the Look station shows. Pure functions, for any thread.
#include "app/plots/plot_frame.h"
#include "study/look_readings.h"
#include "workspace/grid_model.h"

#include <QString>
#include <QStringList>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What is looked at, taken from the session on the interface thread.
struct LookRequest {
    std::shared_ptr<const PreparedRows> prepared;
    std::shared_ptr<const Evidence> evidence;
    Recipe recipe;
    Against against = Against::response;
    /// "against", "spread out", "over time", "season", "map".
    QString view;
    std::string column;
    /// A factor, or empty.
    std::string group;
    /// A factor whose levels each get a plot of their own, or empty.
    std::string panels;
    /// A column to stand up the plot in place of the target; empty for none.
    std::string up;
    /// The rows looked at; null for all.
    std::shared_ptr<const std::vector<std::uint8_t>> only;
    LookScales scales;
    enum class Shape { lines, curves, means };
    Shape shape = Shape::lines;
    enum class Spread { counts, quantiles, powers };
    Spread spread = Spread::counts;
    enum class Over { oneScale, ownScales, itself };
    Over over = Over::oneScale;
    Summing summing = Summing::mean;
};

/// One click that takes what was seen into the model, or among the goads.
struct LookMove {
    QString label;
    /// Made from the request's.
    Recipe recipe;
    std::optional<NotedGoad> note{};
};

struct LookPicture {
    /// The plot, or several with a title each.
    PlotFrame::Content content;
    struct Panel {
        QString title;
        PlotFrame::Content content;
    };
    std::vector<Panel> panels;
    /// Names of the colours in all panels.
    std::vector<std::pair<QString, QColor>> key;
    /// Plots beside each other.
    int panelsAcross = 3;
    /// What it says, a sentence each.
    QStringList sentences;
    /// The recipe that the moves were made from.
    Recipe madeOf;
    std::vector<LookMove> moves;
    /// Factors whose lines would show that slopes differ, each with what a button says.
    std::vector<std::pair<QString, QString>> groups;
    /// Slopes by group.
    std::optional<GridModel::Content> slopes;
};

/// Errors of the core become a plot that says them. Throws Stopped.
LookPicture lookPicture(const LookRequest& request, Progress& progress);
/// The rows alone, at once, where there are so many that lines and curves keep one waiting; empty otherwise.
std::optional<LookPicture> lookRows(const LookRequest& request);

} // namespace oxgoad

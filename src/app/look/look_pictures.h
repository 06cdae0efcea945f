#pragma once
// From readings of the core to what a plot of the Look station shows. Pure functions, for any thread.
#include "app/plots/plot_frame.h"
#include "study/look_at.h"
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
    /// A column to stand up the plot in place of the target; empty for none.
    std::string up;
};

/// One click that takes what was seen into the model.
struct LookMove {
    QString label;
    Recipe recipe;
};

struct LookPicture {
    PlotFrame::Content content;
    /// What it says, a sentence each.
    QStringList sentences;
    std::vector<LookMove> moves;
    /// Factors whose lines would show that slopes differ, each with what a button says.
    std::vector<std::pair<QString, QString>> groups;
    /// Slopes by group.
    std::optional<GridModel::Content> slopes;
};

/// Errors of the core become a plot that says them. Throws Stopped.
LookPicture lookPicture(const LookRequest& request, Progress& progress);

} // namespace oxgoad

#pragma once
// What a plot frame holds of the plotting library; only for its own sources.
#include "app/plots/plot_frame.h"

#include <qcustomplot.h>

#include <utility>
#include <vector>

namespace oxgoad {

struct PlotFrame::Plot {
    QCustomPlot* widget = nullptr;
    std::vector<QCPGraph*> graphs;
    /// Lower and upper edges of the bands.
    std::vector<std::pair<QCPGraph*, QCPGraph*>> bands;
    QCPColorMap* density = nullptr;
    QCPColorMap* markedDensity = nullptr;
    QCPGraph* marked = nullptr;
    QCPItemText* note = nullptr;
    QCPItemText* empty = nullptr;
    QCPGraph* selection = nullptr;
    QCPLayoutGrid* legendLine = nullptr;
    Rubber* rubber = nullptr;
    QPoint pressed, panFrom;
    bool panning = false;
};

} // namespace oxgoad

#pragma once
// Where values lie along an axis of a plot, and how the axis is labelled.
#include <memory>

template <class T> class QSharedPointer;
class QCPAxisTicker;

namespace oxgoad {

/// From values to the coordinates of the plotting library and back: seconds for days, logarithms to the base
/// 10, or values times a power of ten that keeps the coordinates within what the library draws.
class PlotScale {
public:
    static PlotScale plain(double largestMagnitude);
    static PlotScale dates();
    static PlotScale logarithmic();

    bool isLog() const { return m_kind == Kind::logarithmic; }
    /// NaN where the scale has no place for the value.
    double to(double value) const;
    double from(double coordinate) const;
    bool has(double value) const;
    /// Ticks and labels in values.
    QSharedPointer<QCPAxisTicker> ticker() const;

private:
    enum class Kind { plain, dates, logarithmic };
    Kind m_kind = Kind::plain;
    double m_unit = 1;
};

} // namespace oxgoad

#include "app/plots/plot_scale.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <cmath>
#include <limits>
#include <qcustomplot.h>

namespace oxgoad {

namespace {

constexpr double daySeconds = 86400;

/// Plain numbers with grouped thousands; the plotting library's own would follow the desktop's language.
class NumberTicker : public QCPAxisTicker {
public:
    explicit NumberTicker(double unit) : m_unit(unit) {}

private:
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        const double size = std::fabs(tick);
        if (size < 1e-9 * std::fabs(m_step)) return "0";
        if (m_unit != 1) return qs(readableText(tick / m_unit, 4));
        if (m_years && tick == std::floor(tick)) return QString::number(static_cast<int>(tick));
        if (size >= 1e15 || m_step < 1e-6) return qs(readableText(tick, 4));
        int decimals = 0; // as many as the step needs
        while (decimals < 7 && std::fabs(m_step * std::pow(10, decimals) -
                                         std::round(m_step * std::pow(10, decimals))) > 1e-6)
            ++decimals;
        const int whole = size >= 1 ? static_cast<int>(std::floor(std::log10(size) + 1e-12)) + 1 : 0;
        if (size >= 1) return qs(readableText(tick, whole + decimals));
        return (tick < 0 ? "−" : "") + QString::number(size, 'f', decimals);
    }
    double getTickStep(const QCPRange& range) override {
        m_step = QCPAxisTicker::getTickStep(range);
        // An axis that spans years and nothing else names them as years: 1970, not 1,970.
        m_years = range.lower >= 1500 && range.upper < 2200 && range.size() < 700 && m_step >= 1;
        return m_step;
    }
    double m_unit;
    double m_step = 1;
    bool m_years = false;
};

/// Whole powers of ten where there are enough of them, otherwise 1, 2 and 5 of each, otherwise even steps of
/// the value itself.
class LogTicker : public QCPAxisTicker {
    QVector<double> createTickVector(double, const QCPRange& range) override {
        // No nearer to each other than there is room for their labels.
        const double apart = 0.95 * range.size() / std::max(1, tickCount());
        QVector<double> ticks;
        for (const double tick : allTicks(range))
            if (ticks.isEmpty() || tick - ticks.back() >= apart) ticks << tick;
        return ticks;
    }
    static QVector<double> allTicks(const QCPRange& range) {
        QVector<double> ticks;
        const double decades = range.size();
        if (decades > 2.2) {
            const double step = std::max(1.0, std::ceil(decades / 6));
            for (double t = std::ceil(range.lower / step) * step; t <= range.upper; t += step)
                ticks << t;
            return ticks;
        }
        if (decades > 0.75) {
            for (double power = std::floor(range.lower); power <= range.upper; ++power)
                for (const double digit : {1.0, 2.0, 5.0})
                    if (const double t = power + std::log10(digit); t >= range.lower && t <= range.upper)
                        ticks << t;
            return ticks;
        }
        const double low = std::pow(10, range.lower), high = std::pow(10, range.upper);
        const double rough = (high - low) / 5;
        const double power = std::pow(10, std::floor(std::log10(rough)));
        const double step = rough / power < 2 ? 2 * power : rough / power < 5 ? 5 * power : 10 * power;
        if (!std::isnormal(step)) return ticks;
        for (double v = std::ceil(low / step) * step; v <= high * (1 + 1e-12); v += step)
            if (v > 0) ticks << std::log10(v);
        return ticks;
    }
    QString getTickLabel(double tick, const QLocale&, QChar, int) override {
        return tickText(std::pow(10, tick));
    }
};

} // namespace

PlotScale PlotScale::plain(double largestMagnitude) {
    PlotScale scale;
    if (largestMagnitude > 1e100 || (largestMagnitude > 0 && largestMagnitude < 1e-100))
        scale.m_unit = std::pow(10, std::clamp(-std::floor(std::log10(largestMagnitude)), -307.0, 307.0));
    return scale;
}

PlotScale PlotScale::dates() {
    PlotScale scale;
    scale.m_kind = Kind::dates;
    scale.m_unit = daySeconds;
    return scale;
}

PlotScale PlotScale::logarithmic() {
    PlotScale scale;
    scale.m_kind = Kind::logarithmic;
    return scale;
}

double PlotScale::to(double value) const {
    if (isLog()) return value > 0 ? std::log10(value) : std::nan("");
    return value * m_unit;
}

double PlotScale::from(double coordinate) const {
    const double value = isLog() ? std::pow(10, coordinate) : coordinate / m_unit;
    constexpr double largest = std::numeric_limits<double>::max();
    return std::clamp(value, -largest, largest);
}

bool PlotScale::has(double value) const {
    return std::isfinite(value) && (!isLog() || value > 0);
}

QSharedPointer<QCPAxisTicker> PlotScale::ticker() const {
    if (m_kind == Kind::logarithmic) return QSharedPointer<LogTicker>::create();
    if (m_kind == Kind::plain) return QSharedPointer<NumberTicker>::create(m_unit);
    // At whole months or years, as calendars have them.
    auto ticker = QSharedPointer<QCPAxisTickerDateTime>::create();
    ticker->setDateTimeFormat("MMM yyyy");
    ticker->setDateTimeSpec(Qt::UTC);
    ticker->setTickCount(6);
    return ticker;
}

} // namespace oxgoad

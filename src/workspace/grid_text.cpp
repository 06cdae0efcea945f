#include "workspace/grid_text.h"

#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

QVariant rawNumber(double value) {
    return std::isnan(value) ? QVariant() : QVariant(value);
}

/// Fixed decimals with grouped thousands and a true minus.
QString decimalsText(double value, int decimals) {
    if (std::isnan(value)) return {};
    if (!std::isfinite(value) || std::fabs(value) >= 1e15) return qs(readableText(value));
    QString text = QString::number(std::fabs(value), 'f', std::max(0, decimals));
    auto point = text.indexOf('.');
    for (auto i = (point < 0 ? text.size() : point) - 3; i > 0; i -= 3)
        text.insert(i, ',');
    const bool zero = std::none_of(text.begin(), text.end(), [](QChar c) { return c >= u'1' && c <= u'9'; });
    return value < 0 && !zero ? "−" + text : text;
}

/// Decimals that show a value of this size with four digits.
QString tickText(double value) {
    QString text = qs(readableText(value, 4));
    if (text.contains('.') && !text.contains('e'))
        while (text.endsWith('0') || text.endsWith('.')) {
            const bool point = text.endsWith('.');
            text.chop(1);
            if (point) break;
        }
    return text;
}

int decimalsFor(double size) {
    if (!(size > 0) || !std::isfinite(size)) return 0;
    return std::clamp(3 - static_cast<int>(std::floor(std::log10(size))), 0, 6);
}

GridColumn textColumn(QString title, std::function<QString(int)> text) {
    return {std::move(title), false, std::move(text), {}, {}};
}

GridColumn numberColumn(QString title, std::function<double(int)> value, int decimals) {
    return {std::move(title),
            true,
            [value, decimals](int row) { return decimalsText(value(row), decimals); },
            [value](int row) { return rawNumber(value(row)); },
            {}};
}

QString supportedText(double value, double error) {
    if (std::isnan(value)) return {};
    if (!(error > 0) || !std::isfinite(error)) return qs(readableText(value, 6));
    const int decimals = 1 - static_cast<int>(std::floor(std::log10(error)));
    if (decimals > 9) return qs(readableText(value, 4));
    return decimalsText(value, std::max(decimals, 0));
}

QString residualTitle(const Evidence& evidence) {
    if (evidence.study && evidence.study->rule.link.family) return "deviance\nresidual";
    return evidence.logResponse ? "residual,\nlogarithm" : "residual";
}

} // namespace oxgoad

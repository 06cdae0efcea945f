#pragma once
// How numbers are shown in tables.
#include "study/evidence.h"
#include "workspace/grid_model.h"

#include <QVariant>

namespace oxgoad {

/// A missing value is an invalid variant.
QVariant rawNumber(double value);
/// Fixed decimals with grouped thousands and a true minus; "" for NaN.
QString decimalsText(double value, int decimals);
/// A round number of an axis: 50, not 50.00.
QString tickText(double value);
/// Decimals that show a value of this size with four digits.
int decimalsFor(double size);
GridColumn textColumn(QString title, std::function<QString(int)> text);
GridColumn numberColumn(QString title, std::function<double(int)> value, int decimals);

/// What the residuals of rows are, as the head of a column.
QString residualTitle(const Evidence& evidence);

} // namespace oxgoad

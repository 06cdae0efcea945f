#pragma once
// The kinds of steps; each is defined in the file of its group.
#include "prepare/frame.h"
#include "prepare/step.h"

namespace oxgoad {

StepKind leaveOutWhere();
StepKind leaveOutMissing();
StepKind leaveOutBeyondFences();
StepKind leaveOutBeyondZ();
StepKind leaveOutRows();
StepKind fillMissing();
StepKind changeType();
StepKind replaceValues();
StepKind mergeLevels();
StepKind lumpRareLevels();
StepKind orderLevels();
StepKind referenceLevel();
StepKind transformNumbers();
StepKind standardise();
StepKind cutIntoBands();
StepKind partsOfDate();
StepKind lagColumn();
StepKind rollingMean();
StepKind deriveColumn();
StepKind renameColumn();
StepKind combineColumns();

// Fields that several kinds share.
StepField columnField(std::vector<ColumnKind> kinds, std::string key = "column",
                      std::string label = "Column");
StepField columnsField(std::vector<ColumnKind> kinds);
StepField textField(std::string key, std::string label, std::optional<StepValue> fallback = {});

/// Names of new columns: the one given, or the old one with an ending.
std::string newName(const Step& step, const std::string& column, const std::string& ending);

} // namespace oxgoad

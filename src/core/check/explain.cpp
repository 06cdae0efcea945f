#include "check/explain.h"

#include "base/text.h"

#include <array>
#include <cmath>
#include <string_view>

namespace oxgoad {

namespace {

struct Entry {
    /// The key, or what it starts with before ": ".
    std::string_view kind;
    std::string_view what, answers, help;
};

constexpr std::array entries{
    Entry{
        "worse than the mean",
        "A model earns its place only when it predicts rows it has not seen better than the plain mean does.",
        "Usually there are too many terms for the rows, one mistyped value rules the fit, or the rows that "
        "judge are of another kind: take terms out, look at the rows that stand out, and judge by whole "
        "groups or times.",
        "Checks of the judgement"},
    Entry{"folds could not be judged",
          "Folds learn the model anew from some of the rows, and at least one of them could not.",
          "Merge rare levels, take terms out, or choose fewer or other folds.", "Checks of the judgement"},
    Entry{"overfit gap", "A model that follows the noise of its own rows does worse on rows it has not seen.",
          "Take out terms that do not earn their place, merge rare levels, or bring more rows.",
          "Checks of the judgement"},
    Entry{"error over the mean",
          "The typical error beside the mean response says at a glance whether the forecast is sharp enough "
          "to act on.",
          "Look at what would help in Fit, or accept it when decisions do not need a sharper one.",
          "Checks of the judgement"},
    Entry{"rows per coefficient",
          "Every coefficient is paid for with rows; with few rows each the estimates follow chance.",
          "Take terms out, merge levels, or bring more rows.", "Checks of the judgement"},
    Entry{
        "largest effect is one level",
        "When the largest effect of all belongs to a level that few rows have, the model may rest on them "
        "alone.",
        "Look at those rows; merge the level with others or leave the factor out when they are not typical.",
        "Checks of the judgement"},
    Entry{"impossible predictions", "A straight model does not know the bounds of its response.",
          "Model the logarithm of a response above 0, add the curve that is missing, or do not use the model "
          "there.",
          "Checks of the judgement"},
    Entry{"totals",
          "Budgets rest on sums, and a model may be right row by row in the middle and wrong in sum.",
          "Of a response in logarithms weigh rows or model spread by group; otherwise add the curve or pair "
          "that is missing where the totals are off.",
          "Checks of the judgement"},
    Entry{"interval coverage",
          "An interval that says 95 % has to hold about 95 of 100 rows that the model has not seen.",
          "Answer unequal spread and dependence first; a model of logarithms often gives intervals the right "
          "width everywhere.",
          "Checks of the judgement"},
    Entry{"hangs on the seed",
          "Which rows are held out is drawn at random, and another draw would have judged otherwise.",
          "Judge by ten folds dealt several times, and look for the few rows on which the error hangs.",
          "Checks of the judgement"},
    Entry{"suspiciously good column",
          "A column that says nearly all of the response alone was often computed from it, or is known only "
          "after it.",
          "Ask where the column comes from and whether it is known when the forecast is made; leave it out "
          "if not.",
          "Checks of the judgement"},
    Entry{
        "kind of response",
        "A straight line through many zeros, or through amounts that spread with their mean, gives the wrong "
        "mean where most of the money is.",
        "Take a model of the mean, or one of whether and one of how much, and compare totals by tenths.",
        "Checks of the relation"},
    Entry{"columns that act together",
          "What one column does hangs on another: a straight model says that only by their product.",
          "Add the product to a straight model and compare it on the same folds; it may be all that a "
          "flexible model knows more.",
          "Checks of the relation"},
    Entry{"one column carries it",
          "A column that names rows is learned by heart, and what a single level says holds for it alone.",
          "Leave it out and see what unseen rows say then; hold out by its values.",
          "Checks of the judgement"},
    Entry{"trend in time left over", "What the model leaves over rises or falls with time.",
          "Add the time, or the column that changed with it; hold the latest rows out to see what it costs.",
          "Checks of dependence"},
    Entry{"change of level or slope in time",
          "At some time the level or the slope of what is left over changed.",
          "Ask what happened then; add a column for before and after, or learn from the later rows only.",
          "Checks of dependence"},
    Entry{"outlying", "A row whose residual is larger than chance gives among so many rows.",
          "Look at the row: mend a typing error, leave it out with a reason if it is of another kind, or fit "
          "robustly.",
          "Checks of rows"},
    Entry{"held-out row far off", "A held-out row that is predicted far worse than chance gives.",
          "Look at the row: mend a typing error or leave it out with a reason; if it is right, the model "
          "lacks something.",
          "Checks of rows"},
    Entry{"influential", "A row without which coefficients or predictions would be clearly different.",
          "Look at the row; see in Check what the fit would be without it, and leave it out only with a "
          "reason of its own.",
          "Checks of rows"},
    Entry{"rows that hide each other",
          "Several like outliers pull the fit towards themselves, so that none of them stands out alone.",
          "Look at them together; fit robustly, or leave them out with a reason.", "Checks of rows"},
    Entry{"curvature", "The response changes with the column not in a straight line.",
          "Let the column enter as a curve, or by its logarithm.", "Checks of the relation"},
    Entry{"curvature overall",
          "Powers of the fitted values still explain something, so that the form of the model is not right.",
          "Look which column is bent, which pair is missing, or whether the logarithm of the response is "
          "straight.",
          "Checks of the relation"},
    Entry{"missing interaction", "The effect of one column differs by the value of another.",
          "Add the product of the two to the model.", "Checks of the relation"},
    Entry{"left-out column", "What the model leaves over differs by a column that is not in it.",
          "Add the column, if it will be known when the forecast is made.", "Checks of the relation"},
    Entry{"unequal spread",
          "Errors are larger in some places than in others, while intervals are as wide everywhere.",
          "Model the logarithm of the response, weigh the rows, or use errors of coefficients that stand it.",
          "Checks of spread"},
    Entry{"unequal spread, White",
          "The spread of errors changes with the columns, their squares or products.",
          "Model the logarithm of the response, weigh the rows, or use errors of coefficients that stand it.",
          "Checks of spread"},
    Entry{"unequal spread, ranks",
          "Errors are larger in some places than in others, while intervals are as wide everywhere.",
          "Model the logarithm of the response, weigh the rows, or use errors of coefficients that stand it.",
          "Checks of spread"},
    Entry{"spread by group", "Errors of some levels are larger than those of others.",
          "Weigh the rows, model the logarithm, or use errors of coefficients that stand it.",
          "Checks of spread"},
    Entry{"shape of residuals", "Intervals of single values take errors for normal, and these are not.",
          "Model the logarithm when the tail is to the right, fit robustly when a few rows make it, or read "
          "intervals with care.",
          "Checks of shape"},
    Entry{"serial dependence, Durbin–Watson", "The error of one time says something about that of the next.",
          "Use errors that stand it, add what changes slowly in time, and judge by the next times.",
          "Checks of dependence"},
    Entry{"serial dependence, Ljung–Box", "Errors say something about those of several times later.",
          "Add the season or a lag, use errors that stand it, and judge by the next times.",
          "Checks of dependence"},
    Entry{"dependence within groups", "Rows of one group share an error that other groups do not have.",
          "Judge by whole groups, use errors by group, or add what tells the groups apart.",
          "Checks of dependence"},
    Entry{"dependence in space",
          "Errors of near places are alike, so that something which changes over the map is missing.",
          "Add the coordinates or what lies behind them, such as the region.", "Checks of dependence"},
    Entry{"collinearity",
          "The other terms say nearly the same, so that the coefficient could be much larger or smaller.",
          "Leave one of the like terms out, or read their coefficients together only; predictions inside the "
          "range are hardly touched.",
          "Checks of columns"},
    Entry{"dependent", "Other columns say it exactly, so that it has no coefficient of its own.",
          "Leave it out: nothing is lost.", "Checks of columns"},
    Entry{"near dependency", "Columns are so nearly dependent that digits of the coefficients are lost.",
          "Centre columns far off 0, or leave one of the like terms out.", "Checks of columns"},
    Entry{
        "missing values", "Rows that lack a value of a column in use are not learned from.",
        "Fill the values, make them a level of their own, or leave the column out; ask why they are missing.",
        "Checks of columns"},
    Entry{"rare levels", "The coefficient of a level with few rows rests on them alone.",
          "Merge rare levels, or accept that their predictions are rough.", "Checks of columns"},
    Entry{"unreadable cells", "Cells that are not what their column is are taken as missing.",
          "Mend them in the source, or read the column as another kind.", "Checks of columns"},
    Entry{"far out",
          "A value of a column lies far beyond all others, behind a gap that a plain tail does not make.",
          "Look at the row: mend a typing error, make the value missing, or leave the row out with a reason.",
          "Goads of clean columns"},
    Entry{"sign", "A column that is nearly always of one sign has a few values of the other.",
          "Look at these rows: mend a typing error, or accept it when the sign can turn.",
          "Goads of clean columns"},
    Entry{"all missing", "A column without a value says nothing.",
          "Leave it out, or look whether it was read as it should.", "Data"},
    Entry{"constant", "A column with one value says nothing.", "Leave it out.", "Checks of columns"},
    Entry{"almost constant",
          "A column that nearly always has one value says something about a few rows only.",
          "Look at these rows, or leave the column out.", "Data"},
    Entry{"number as text", "Numbers that are read as names of levels have no slope.",
          "Read the column as a number, and name the marks that stand for missing values.", "Data"},
    Entry{"alike levels",
          "Levels that differ by a blank or a letter are often one, and each gets a coefficient of its own.",
          "Merge them, or accept that they are different.", "Data"},
    Entry{"identifier", "A column that names rows explains each by itself and none that is new.",
          "Give it the role identifier, so that it is not offered as a term.", "Data"},
    Entry{"duplicate rows",
          "Equal rows count twice, and a row that learns and its twin that judges agree by themselves.",
          "Look where they come from, and drop the copies.", "Data"},
    Entry{"distant sources",
          "Sources on different scales make a model of one that does not hold for the other.",
          "Bring them to one unit, or keep the source as a column.", "Data"},
    Entry{"chosen terms",
          "Terms that were chosen by looking at these rows fit them better than they will fit others.",
          "Judge the choice in every fold, and read p values as optimistic.", "Fit"},
    Entry{"chosen but not significant", "A criterion of prediction keeps terms that a test would not.",
          "Keep them for a forecast, leave them out for an explanation.", "Fit"},
    Entry{"significant but not chosen", "A test finds terms that the criterion did not take.",
          "Add one and look at the error of rows it did not learn from.", "Fit"},
    Entry{"no degrees of freedom", "With as many coefficients as rows any rows would fit.",
          "Take terms out or bring more rows.", "Fit"},
    Entry{"fits exactly", "A fit without an error was often computed from its own columns.",
          "Ask where the columns come from, and leave out those made of the response.", "Fit"},
    Entry{"far-off response", "A response that varies little beside its size keeps few of its digits.",
          "Take a constant off before it is written.", "Digits reached"},
    Entry{"few groups", "Errors by groups rest on the number of groups, and few make them too small.",
          "Use the correction for few groups.", "Fit"},
    Entry{"rows that fix their value",
          "A row that alone fixes its fitted value has no residual whatever the spread.",
          "Merge its level with others, or leave the row out.", "Fit"},
    Entry{"no test of a term", "What the residuals do not tell cannot be tested.",
          "Use errors for equal spread, or merge what single rows fix.", "Fit"},
    Entry{"judged response read", "A step that looks back at the response reads what rows are judged by.",
          "Judge by the next times, or look back further than what is judged.", "How a model is judged"},
    Entry{"step", "A step of the preparation could not run, so that rows are not prepared as was asked.",
          "Mend the step, or switch it off.", "Data"},
    Entry{"product without parents",
          "A product without its parts forces a slope or difference to be 0 where the other is 0.",
          "Put the parts in, or take the product out.", "Fit"},
    Entry{"no convergence", "Estimates that still move are not those that the method means.",
          "Look at the rows with small weights, or choose another estimator.", "Fit"},
    Entry{"levels not learned in folds",
          "A fold that has not learned a level predicts its rows as those of a new level.",
          "Merge rare levels, or deal in proportion.", "How a model is judged"},
    Entry{"folds were stopped", "Errors and their spread are of the folds that were judged.",
          "Judge again and let it end.", "How a model is judged"},
    Entry{"noted", "You saw this while looking, and wanted it answered.", "Drop the note once it is.",
          "Goads"},
    Entry{"reach",
          "The model is asked about rows unlike those it learned from, where nothing vouches for it.",
          "Look which rows and why; bring rows like them, or say that the forecast does not hold there.",
          "Forecast"},
    Entry{
        "leak",
        "A column that was made of the response says it perfectly, and says nothing when the response is not "
        "known yet.",
        "Take it out of the model and set it aside; keep only columns that are known before the response is.",
        "Checks of the judgement"},
    Entry{"season",
          "Months, weekdays and hours differ in most business numbers; a model without them is wrong in each "
          "of "
          "them, and its errors hang together.",
          "Take the part of the calendar as levels, a wave of the year, or the value a year before.",
          "Checks of dependence"},
    Entry{"response a year before",
          "What was a year ago often comes again, also where no month is always high or always low.",
          "Take the value a year before into the model, or its month where each year is alike.",
          "Checks of dependence"},
    Entry{"rows of totals", "A row that sums others counts them twice and pulls every line to itself.",
          "Leave it out.", "Checks of columns"},
};

} // namespace

Explanation explain(const Goad& goad) {
    Explanation out;
    const std::string_view kind = std::string_view(goad.key).substr(0, goad.key.find(": "));
    for (const Entry& entry : entries)
        if (entry.kind == goad.key || entry.kind == kind) {
            out.what = entry.what;
            out.answers = entry.answers;
            out.help = entry.help;
            if (entry.kind == goad.key) break;
        }
    if (out.what.empty()) {
        out.what = "Something was found that could make the forecast wrong.";
        out.answers = goad.moves.empty()
                          ? "Look at what it names, and accept it with your reason if it is right."
                          : "One of its moves, or accept it with your reason if it is right.";
        out.help = "Goads";
    }
    out.here = "Here: " + goad.reading + ".";
    if (goad.cost && std::isfinite(*goad.cost) && !goad.costSays.empty())
        out.here += " Cost " + readableText(100 * *goad.cost, 2) + " %, " + goad.costSays + ".";
    return out;
}

} // namespace oxgoad

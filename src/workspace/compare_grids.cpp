#include "workspace/compare_grids.h"

#include "base/text.h"
#include "study/compare.h"
#include "study/say.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <functional>

namespace oxgoad {

namespace {

/// Lines that a table of fits is made of.
class FitLines {
public:
    struct Line {
        QString name;
        std::vector<QString> cells;
        QString difference;
        bool heading = false;
    };
    using Number = std::function<double(const Evidence&)>;
    using Text = std::function<QString(const Evidence&)>;

    explicit FitLines(const std::vector<FitColumn>& fits) : m_fits(fits) {}

    void heading(const QString& name) {
        m_lines.push_back({name, std::vector<QString>(m_fits.size()), {}, true});
    }
    void texts(const QString& name, const Text& text) {
        Line line{name, {}, {}, false};
        for (const FitColumn& fit : m_fits)
            line.cells.push_back(text(*fit.evidence));
        m_lines.push_back(std::move(line));
    }
    /// Nothing where no fit has it.
    void numbers(const QString& name, const Number& number, int digits = 4) {
        std::vector<double> values;
        for (const FitColumn& fit : m_fits)
            values.push_back(number(*fit.evidence));
        add(name, values, digits);
    }
    void add(const QString& name, const std::vector<double>& values, int digits = 4) {
        if (std::all_of(values.begin(), values.end(), [](double v) { return std::isnan(v); })) return;
        Line line{name, {}, {}, false};
        for (const double value : values)
            line.cells.push_back(qs(readableText(value, digits)));
        if (values.size() == 2 && !std::isnan(values[0]) && !std::isnan(values[1]))
            line.difference = (values[1] > values[0] ? "+" : "") + qs(readableText(values[1] - values[0], 3));
        m_lines.push_back(std::move(line));
    }
    void add(Line line) { m_lines.push_back(std::move(line)); }
    bool any(const std::function<bool(const Evidence&)>& of) const {
        return std::any_of(m_fits.begin(), m_fits.end(),
                           [&](const FitColumn& fit) { return of(*fit.evidence); });
    }
    bool all(const std::function<bool(const Evidence&)>& of) const {
        return std::all_of(m_fits.begin(), m_fits.end(),
                           [&](const FitColumn& fit) { return of(*fit.evidence); });
    }

    GridModel::Content grid() const {
        const auto lines = std::make_shared<const std::vector<Line>>(m_lines);
        const auto at = [lines](int row) -> const Line& { return (*lines)[static_cast<std::size_t>(row)]; };
        GridModel::Content grid;
        grid.rows = static_cast<int>(lines->size());
        grid.columns = {textColumn("", [at](int row) { return at(row).name; })};
        for (std::size_t i = 0; i < m_fits.size(); ++i)
            grid.columns.push_back({QString("fit %1").arg(m_fits[i].number),
                                    true,
                                    [at, i](int row) { return at(row).cells[i]; },
                                    {},
                                    {}});
        const int last = static_cast<int>(m_fits.size()) + 1;
        if (m_fits.size() == 2)
            grid.columns.push_back(
                {"difference", true, [at](int row) { return at(row).difference; }, {}, {}});
        grid.extra = [at, last](int row, int column, int role) -> QVariant {
            if (role == ToneRole && at(row).heading) return "strong";
            if (role == ToneRole && column == last) return "quiet";
            if (role == FractionRole) return -1;
            return {};
        };
        return grid;
    }

private:
    const std::vector<FitColumn>& m_fits;
    std::vector<Line> m_lines;
};

QString inUnit(const Session& session, const Evidence& evidence) {
    const QString unit = session.unit(evidence.response);
    return unit.isEmpty() ? QString() : ", " + unit;
}

const PartScores* scoresOf(const std::vector<PartScores>& all, const char* part) {
    for (const PartScores& scores : all)
        if (scores.part == part) return &scores;
    return nullptr;
}

void addErrors(FitLines& lines, const Session& session, const std::vector<FitColumn>& fits) {
    const QString unit = inUnit(session, *fits[0].evidence);
    lines.heading("rows and errors");
    lines.texts("learning rows", [](const Evidence& e) { return qs(countText(e.rowsLearning)); });
    lines.texts("held-out rows", [](const Evidence& e) { return qs(countText(e.rowsHeldOut)); });
    if (fits.size() == 2) {
        const Comparison both = compareHeldOut(*fits[0].evidence, *fits[1].evidence);
        if (both.first.rows > 0) {
            lines.add("RMSE on the " + qs(countText(both.first.rows)) + " rows both hold out" + unit,
                      {both.first.rmse, both.second.rmse});
            lines.add("MAE on these rows" + unit, {both.first.mae, both.second.mae});
        }
    }
    const bool heldOut = lines.any([](const Evidence& e) { return e.rowsHeldOut > 0; });
    if (heldOut) {
        lines.numbers("RMSE, held-out rows" + unit, [](const Evidence& e) { return e.heldOut.rmse; });
        lines.numbers(
            "± its standard error", [](const Evidence& e) { return e.heldOut.rmseError; }, 3);
    }
    if (lines.any([](const Evidence& e) { return e.folds != nullptr; })) {
        const auto of = [](double FoldEvidence::*member) {
            return [member](const Evidence& e) { return e.folds ? (*e.folds).*member : std::nan(""); };
        };
        lines.texts("judged by", [](const Evidence& e) {
            return e.folds ? qs(foldPlanText(e.folds->plan)) : QObject::tr("no folds");
        });
        lines.numbers("RMSE over folds" + unit, of(&FoldEvidence::rmse));
        lines.numbers("± its standard error, by folds", of(&FoldEvidence::rmseError), 3);
        lines.texts("single folds from, to" + unit, [](const Evidence& e) {
            double low = 1e300, high = -1e300;
            if (e.folds)
                for (const FoldScore& fold : e.folds->each)
                    if (std::isfinite(fold.rmse)) {
                        low = std::min(low, fold.rmse);
                        high = std::max(high, fold.rmse);
                    }
            return low > high ? QString() : qs(readableText(low, 4) + " to " + readableText(high, 4));
        });
        lines.numbers("bias-adjusted RMSE" + unit, [](const Evidence& e) {
            return e.folds ? std::sqrt(e.folds->adjustedMse) : std::nan("");
        });
        lines.numbers(".632+ RMSE" + unit, [](const Evidence& e) {
            return e.folds && e.folds->bootstrap ? std::sqrt(e.folds->bootstrap->plus632) : std::nan("");
        });
        lines.numbers("from dealing to dealing ±", of(&FoldEvidence::spreadOverRepeats), 3);
        lines.numbers("MAE over folds" + unit, of(&FoldEvidence::mae));
        lines.numbers("R² over folds", of(&FoldEvidence::rSquared));
        if (fits.size() == 2) {
            const FoldComparison paired = compareFolds(*fits[0].evidence, *fits[1].evidence);
            if (paired.folds > 0)
                lines.add({"folds in which it is better",
                           {QString::number(paired.folds - paired.betterFolds),
                            QString::number(paired.betterFolds)},
                           {},
                           false});
        }
    }
    lines.numbers("RMSE, learning rows" + unit, [](const Evidence& e) { return e.learning.rmse; });
    lines.numbers(
        "gap: unseen over learning rows, %",
        [](const Evidence& e) {
            const double unseen = e.folds && e.folds->rows > 0 ? e.folds->rmse : e.heldOut.rmse;
            return 100 * (unseen / e.learning.rmse - 1);
        },
        3);
    if (heldOut) {
        lines.numbers("MAE, held-out rows" + unit, [](const Evidence& e) { return e.heldOut.mae; });
        lines.numbers("R², held-out rows", [](const Evidence& e) { return e.heldOut.rSquared; });
    }
    if (lines.any([](const Evidence& e) { return e.test.has_value(); })) {
        lines.numbers("RMSE, test rows" + unit,
                      [](const Evidence& e) { return e.test ? e.test->rmse : std::nan(""); });
        lines.numbers(
            "± its standard error, test",
            [](const Evidence& e) { return e.test ? e.test->rmseError : std::nan(""); }, 3);
    }
    for (const auto& [part, name] :
         {std::pair{"held out", "held-out rows"}, std::pair{"out of fold", "out of fold"},
          std::pair{"learning", "learning rows"}}) {
        const auto of = [part = part](double PartScores::*member) {
            return [part, member](const Evidence& e) {
                const auto all = partScores(e);
                const PartScores* scores = scoresOf(all, part);
                return scores ? scores->*member : std::nan("");
            };
        };
        lines.numbers(QString("median error, %1").arg(name) + unit, of(&PartScores::medianError));
        lines.numbers(QString("absolute error over that of the mean, %1").arg(name),
                      of(&PartScores::relativeAbsolute), 3);
    }
    // Of the fit whose rows to be forecast are known.
    const Evidence* forecast = nullptr;
    for (const FitColumn& fit : fits)
        if (fit.evidence->forecast) forecast = fit.evidence;
    if (!forecast) return;
    const QString currency = session.unit(fits[0].evidence->response).section(' ', 0, 0);
    const QString money = currency.isEmpty() ? QString() : ", " + currency;
    lines.numbers("absolute errors of the rows to be forecast, added" + money,
                  [&](const Evidence& e) { return moneyAtStake(e, *forecast).onForecast; });
    lines.numbers("a year of them" + money,
                  [&](const Evidence& e) { return moneyAtStake(e, *forecast).aYear; });
}

void addFit(FitLines& lines, const Session& session, const std::vector<FitColumn>& fits) {
    const QString unit = inUnit(session, *fits[0].evidence);
    const auto linear = [](double LinearEvidence::*member) {
        return [member](const Evidence& e) { return e.linear ? (*e.linear).*member : std::nan(""); };
    };
    lines.numbers("R², learning rows", linear(&LinearEvidence::rSquared));
    lines.numbers("adjusted R²", linear(&LinearEvidence::adjustedRSquared));
    const bool logarithm = fits[0].evidence->logResponse;
    if (lines.all([&](const Evidence& e) { return e.logResponse == logarithm; }))
        lines.numbers("residual standard deviation" + (logarithm ? QString(" of the logarithm") : unit),
                      linear(&LinearEvidence::residualStandardDeviation));
    const std::size_t rows = fits[0].evidence->rowsLearning;
    if (lines.all([&](const Evidence& e) {
            return e.linear && std::isfinite(e.linear->aicc) && std::isfinite(e.linear->bic) &&
                   e.rowsLearning == rows;
        })) {
        lines.numbers("AICc", linear(&LinearEvidence::aicc), 6);
        lines.numbers("BIC", linear(&LinearEvidence::bic), 6);
    }
    if (lines.any([](const Evidence& e) { return e.linear.has_value(); }))
        lines.texts("degrees of freedom", [](const Evidence& e) {
            return e.linear
                       ? qs(countText(static_cast<std::size_t>(std::max(0.0, e.linear->degreesOfFreedom))))
                       : QString();
        });
    lines.texts("size", [](const Evidence& e) {
        const Complexity size = complexityOf(e);
        return size.what.empty() ? QString() : qs(readableText(size.value, 4) + " " + size.what);
    });
    lines.texts("open goads", [](const Evidence& e) {
        return QString::number(std::count_if(e.goads.begin(), e.goads.end(), [](const Goad& goad) {
            return !goad.accepted && goad.under.empty();
        }));
    });
}

void addCoefficients(FitLines& lines, const std::vector<FitColumn>& fits) {
    std::vector<std::string> names;
    for (const FitColumn& fit : fits)
        if (fit.evidence->linear)
            for (const auto& c : fit.evidence->linear->coefficients)
                if (std::find(names.begin(), names.end(), c.name) == names.end()) names.push_back(c.name);
    if (names.empty()) return;
    lines.heading("coefficients ± standard error");
    for (const std::string& name : names) {
        FitLines::Line line{qs(name), {}, {}, false};
        std::vector<const CoefficientEvidence*> found;
        for (const FitColumn& fit : fits) {
            const CoefficientEvidence* own = nullptr;
            if (fit.evidence->linear)
                for (const auto& c : fit.evidence->linear->coefficients)
                    if (c.name == name) own = &c;
            found.push_back(own);
            line.cells.push_back(!own             ? QString()
                                 : own->dependent ? QString("repeats others")
                                 : std::isnan(own->standardError)
                                     ? qs(readableText(own->estimate, 4))
                                     : supportedText(own->estimate, own->standardError) + " ± " +
                                           qs(readableText(own->standardError, 2)));
        }
        if (found.size() == 2 && found[0] && found[1] && !found[0]->dependent && !found[1]->dependent)
            line.difference = (found[1]->estimate > found[0]->estimate ? "+" : "") +
                              supportedText(found[1]->estimate - found[0]->estimate,
                                            std::max(found[0]->standardError, found[1]->standardError));
        lines.add(std::move(line));
    }
}

} // namespace

GridModel::Content compareGrid(const Session& session, const std::vector<FitColumn>& fits) {
    FitLines lines(fits);
    const bool there = std::all_of(fits.begin(), fits.end(), [](const FitColumn& f) { return f.evidence; });
    if (there && !fits.empty()) {
        addErrors(lines, session, fits);
        addFit(lines, session, fits);
        addCoefficients(lines, fits);
    }
    return lines.grid();
}

GridModel::Content pairsGrid(const Session& session, std::shared_ptr<const ComparedFits> compared) {
    const auto at = [compared](int row) -> const PairComparison& {
        return compared->pairs[static_cast<std::size_t>(row)];
    };
    const auto fit = [compared](std::size_t i) { return QObject::tr("fit %1").arg(compared->numbers[i]); };
    const QString unit = compared->evidence.empty() ? QString() : inUnit(session, *compared->evidence[0]);
    const auto number = [](double v, int digits) { return qs(readableText(v, digits)); };
    GridModel::Content grid;
    grid.rows = static_cast<int>(compared->pairs.size());
    const auto measured = [&](const QString& title, const std::function<double(const PairComparison&)>& value,
                              int digits) {
        return GridColumn{title,
                          true,
                          [at, value, number, digits](int r) { return number(value(at(r)), digits); },
                          [at, value](int r) { return rawNumber(value(at(r))); },
                          {}};
    };
    grid.columns = {
        textColumn(QObject::tr("fit"), [at, fit](int r) { return fit(at(r).second); }),
        textColumn(QObject::tr("less"), [at, fit](int r) { return fit(at(r).first); }),
        textColumn(QObject::tr("measure"),
                   [at](int r) { return qs(std::string(measureName(at(r).measure))).toUpper(); }),
        {QObject::tr("folds better"),
         true,
         [at](int r) {
             return at(r).folds > 0 ? QObject::tr("%1 of %2").arg(at(r).foldsBetter).arg(at(r).folds)
                                    : QString();
         },
         {},
         {}},
        measured(
            QObject::tr("difference") + unit, [](const PairComparison& p) { return p.difference; }, 4),
        measured(
            QObject::tr("from"), [](const PairComparison& p) { return p.lower; }, 4),
        measured(
            QObject::tr("to"), [](const PairComparison& p) { return p.upper; }, 4),
        measured(
            QObject::tr("standard error"), [](const PairComparison& p) { return p.standardError; }, 3),
        textColumn(QObject::tr("judged by"), [at](int r) { return qs(at(r).judgedBy); }),
        textColumn(QObject::tr("nested test and criteria"), [compared](int r) {
            const auto row = static_cast<std::size_t>(r);
            return row < compared->sentences.size() ? qs(compared->sentences[row]) : QString();
        })};
    grid.columns[4].toolTip =
        QObject::tr("The first less the second named; of MSE in the square of the unit");
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == ToneRole && column == 4)
            return at(row).lower > 0 || at(row).upper < 0 ? QVariant("strong") : QVariant("quiet");
        if (role == FractionRole) return -1;
        return {};
    };
    return grid;
}

GridModel::Content commonGrid(const Session& session, std::shared_ptr<const ComparedFits> compared) {
    const auto at = [compared](int row) -> const CommonCoefficient& {
        return compared->coefficients[static_cast<std::size_t>(row)];
    };
    GridModel::Content grid;
    grid.rows = static_cast<int>(compared->coefficients.size());
    const QString unit =
        compared->evidence.empty() ? QString() : session.unit(compared->evidence[0]->response);
    grid.columns = {textColumn(QObject::tr("per standard deviation (a level: from 0 to 1)"),
                               [at](int r) { return qs(at(r).name); })};
    for (std::size_t i = 0; i < compared->numbers.size(); ++i) {
        const bool logarithm = compared->evidence[i]->logResponse;
        grid.columns.push_back({QObject::tr("fit %1").arg(compared->numbers[i]) +
                                    (logarithm        ? QObject::tr("\nlogarithm")
                                     : unit.isEmpty() ? QString()
                                                      : "\n" + unit.section(' ', 0, 0)),
                                true,
                                [at, i](int r) {
                                    const double v = at(r).estimates[i], error = at(r).errors[i];
                                    return std::isnan(v) ? QString()
                                           : std::isnan(error)
                                               ? qs(readableText(v, 4))
                                               : supportedText(v, error) + " ± " + qs(readableText(error, 2));
                                },
                                [at, i](int r) { return rawNumber(at(r).estimates[i]); },
                                {}});
    }
    grid.extra = [](int, int, int role) -> QVariant {
        if (role == FractionRole) return -1;
        return {};
    };
    return grid;
}

GridModel::Content differingGrid(const Session& session, std::shared_ptr<const ComparedFits> compared) {
    const auto at = [compared](int row) -> const DifferingRow& {
        return compared->differing[static_cast<std::size_t>(row)];
    };
    double size = 0;
    for (const DifferingRow& row : compared->differing)
        for (const double v : row.predictions)
            size = std::max(size, std::fabs(v));
    const int decimals = decimalsFor(size);
    const QString unit =
        compared->evidence.empty() ? QString() : session.unit(compared->evidence[0]->response);
    const QString in = unit.isEmpty() ? QString() : "\n" + unit.section(' ', 0, 0);
    GridModel::Content grid;
    grid.rows = static_cast<int>(compared->differing.size());
    grid.columns = {numberColumn(
                        QObject::tr("row"), [at](int r) { return static_cast<double>(at(r).row + 1); }, 0),
                    numberColumn(
                        QObject::tr("apart by") + in, [at](int r) { return at(r).spread; }, decimals),
                    numberColumn(
                        QObject::tr("actual") + in, [at](int r) { return at(r).actual; }, decimals)};
    for (std::size_t i = 0; i < compared->numbers.size(); ++i)
        grid.columns.push_back(numberColumn(
            QObject::tr("fit %1").arg(compared->numbers[i]) + in,
            [at, i](int r) { return at(r).predictions[i]; }, decimals));
    // What the fits read of these rows.
    std::vector<std::string> read;
    for (const auto& evidence : compared->evidence)
        for (const Input& input : evidence->study->inputs)
            if (std::find(read.begin(), read.end(), input.name) == read.end()) read.push_back(input.name);
    for (const std::string& name : read) {
        const Column* input = session.table().find(name);
        if (!input) continue;
        const Column own = *input;
        grid.columns.push_back(
            {qs(name),
             input->kind() == ColumnKind::number,
             [at, own](int r) { return at(r).row < own.size() ? qs(own.cellText(at(r).row)) : QString(); },
             {},
             {}});
    }
    grid.extra = [at](int row, int, int role) -> QVariant {
        if (role == DataRowRole) return QVariant::fromValue<qulonglong>(at(row).row);
        return {};
    };
    return grid;
}

} // namespace oxgoad

#include "study/penalty_search.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/penalised/penalised.h"
#include "study/path_models.h"
#include "study/study.h"
#include "study/tune.h"
#include "write/csv.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <functional>
#include <optional>
#include <tuple>
#include <utility>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int mostWidenings = 4;
/// Sums of cells that are held at once, in doubles.
constexpr double mostSums = 5e7;

class Search {
public:
    Search(const Recipe& recipe, const Table& table, const TrainingData& training, Progress& progress)
        : m_recipe(recipe), m_settings(recipe.estimator), m_table(table), m_data(training),
          m_progress(progress), m_x(training), m_working(recipe, table, training.file) {
        m_place.assign(table.rows(), 0);
        for (std::size_t i = 0; i < training.rows.size(); ++i)
            m_place[training.rows[i]] = static_cast<std::uint32_t>(i);
    }

    /// The models of all rows to all digits, for a search that is there.
    std::shared_ptr<const PenaltySearch> refined(const PenaltySearch& search) {
        if (!search.judgedBy.empty()) deal(); // the sums that the penalties were made from
        *m_out = search;
        for (std::size_t begin = 0; begin < search.points.size();) {
            const double l1Share = search.points[begin].l1Share;
            PenaltyOptions options = penaltyOptions(m_settings, l1Share, m_x.design, m_data);
            const PenalisedProblem& problem = problemOfAll(options, m_progress);
            adaptFactors(m_settings, problem, options, m_progress);
            std::vector<double> penalties;
            for (std::size_t k = begin; k < search.points.size() && search.points[k].l1Share == l1Share; ++k)
                penalties.push_back(search.points[k].penalty);
            for (PenalisedPoint& each : penalisedPath(problem, options, penalties, m_progress)) {
                PenaltyPoint& point = m_out->points[begin++];
                point.kept = each.kept;
                point.dualityGap = each.dualityGap;
                point.coefficients = std::move(each.coefficients);
                point.constant = each.constant;
            }
        }
        return m_out;
    }

    /// A refined search with what its folds say beside its errors.
    std::shared_ptr<const PenaltySearch> detailed(const PenaltySearch& search) {
        ProgressStage first(m_progress, 0, 0.2), second(m_progress, 0.2, 1);
        refined(search);
        m_out->detailed = true;
        sayLearning();
        if (search.judgedBy.empty()) return m_out;
        const std::vector<PenaltyPoint> all = m_out->points;
        for (std::size_t begin = 0; begin < all.size();) {
            const double l1Share = all[begin].l1Share;
            const PenaltyOptions plain = penaltyOptions(m_settings, l1Share, m_x.design, m_data);
            PenaltyOptions options = plain;
            adaptFactors(m_settings, problemOfAll(plain, first), options, second);
            std::vector<double> penalties;
            std::size_t end = begin;
            for (; end < all.size() && all[end].l1Share == l1Share; ++end)
                penalties.push_back(all[end].penalty);
            ProgressStage stage(second, static_cast<double>(begin) / static_cast<double>(all.size()),
                                static_cast<double>(end) / static_cast<double>(all.size()));
            const std::vector<PenaltyPoint> points = judged(plain, options, penalties, stage, true);
            for (std::size_t k = 0; k < points.size(); ++k) {
                PenaltyPoint& to = m_out->points[begin + k];
                to.relaxedMse = points[k].relaxedMse;
                to.relaxedError = points[k].relaxedError;
                to.keptShare = points[k].keptShare;
            }
            begin = end;
        }
        return m_out;
    }

    /// The model of all rows at what was found.
    FitResult fitAll(Progress& progress) const {
        return learnPenalised(m_out->settings, m_data, m_x, *m_problem, progress);
    }

    std::shared_ptr<const PenaltySearch> run(bool judge) {
        PenaltySearch& out = *m_out;
        for (const DesignColumn& column : m_x.design.columns()) {
            out.columns.push_back(column.name);
            out.terms.push_back(column.term);
        }
        if (judge) deal();
        const FieldValue& share = m_settings.get(std::string_view("l1_share"));
        std::vector<double> shares;
        if (const auto* values = std::get_if<std::vector<double>>(&share))
            shares = *values;
        else
            shares.push_back(std::get<double>(share));
        std::sort(shares.begin(), shares.end());
        shares.erase(std::unique(shares.begin(), shares.end()), shares.end());
        for (std::size_t s = 0; s < shares.size(); ++s) {
            ProgressStage stage(m_progress, static_cast<double>(s) / static_cast<double>(shares.size()),
                                static_cast<double>(s + 1) / static_cast<double>(shares.size()));
            follow(shares[s], stage);
            if (out.stopped()) break;
        }
        out.deviations = deviations();
        choose();
        return m_out;
    }

private:
    /// Of the columns over all learning rows.
    std::vector<double> deviations() const {
        std::vector<double> found;
        double weight = static_cast<double>(m_problem->rows);
        if (!m_data.weights.empty()) {
            weight = 0;
            for (const double w : m_data.weights)
                weight += w;
        }
        const double times = static_cast<double>(m_problem->rows) / weight;
        for (Index j = 0; j < m_problem->columns(); ++j) {
            const double squares = m_problem->naive() ? m_problem->z.col(j).squaredNorm() / weight
                                                      : m_problem->gram(j, j) * times;
            found.push_back(m_problem->scale[j] * std::sqrt(squares));
        }
        return found;
    }

    /// Of the learning rows by every point, in the response's unit squared.
    void sayLearning() {
        std::vector<PenaltyPoint>& points = m_out->points;
        PathModels models;
        for (const PenaltyPoint& point : points)
            models.add(point.coefficients, point.constant);
        const FoldRows all(*this, {m_data.rows.begin(), m_data.rows.end()});
        const Eigen::RowVectorXd mse = errorsOf(all.rows, models, smearingOf(all, models));
        for (std::size_t k = 0; k < points.size(); ++k)
            points[k].learningMse = mse[static_cast<Index>(k)];
    }

    /// Mean squared errors of rows, one a model.
    Eigen::RowVectorXd errorsOf(std::span<const std::uint32_t> of, const PathModels& models,
                                const Eigen::RowVectorXd& smearing) const {
        Eigen::RowVectorXd squares = Eigen::RowVectorXd::Zero(smearing.size());
        eachBlock(of, models, [&](std::size_t begin, const MatrixXd& said) {
            for (Index k = 0; k < said.cols(); ++k)
                for (Index i = 0; i < said.rows(); ++i) {
                    const double e =
                        errorAt(of[begin + static_cast<std::size_t>(i)], said(i, k), smearing[k]);
                    squares[k] += e * e;
                }
        });
        return squares / static_cast<double>(of.size());
    }

    /// Of a row where the model says `said`.
    double errorAt(std::uint32_t row, double said, double smearing) const {
        Link link = linkOf(m_recipe);
        link.smearing = smearing;
        return m_working.asRead(row) - link.toResponseScale(said + m_working.offset(row));
    }

    void deal() {
        const bool leaveOneOut = static_cast<double>(m_data.rows.size()) * width() * width() <= mostSums;
        InnerDealing inner = dealWithin(m_recipe, m_table, m_data, leaveOneOut);
        if (!inner.dealing) return;
        m_dealing = std::move(inner.dealing);
        m_plan = inner.plan;
        m_out->judgedBy = inner.judgedBy;
        m_out->folds = m_out->foldsDone = m_dealing->size();
        if (!inner.why.empty()) m_out->note = inner.why + ", so penalties are judged by " + m_out->judgedBy;
    }

    double width() const { return static_cast<double>(m_x.design.columns().size()) + 2; }

    /// Of all learning rows, made once; options of one share are as good as another's. From the sums of the
    /// folds' cells where these hold every row.
    const PenalisedProblem& problemOfAll(const PenaltyOptions& plain, Progress& progress) {
        if (m_problem) return *m_problem;
        RowSums all;
        if (m_dealing && sumsHold()) {
            sumCells(progress);
            for (std::size_t c = 0; c < pieces(); ++c)
                all.add(m_learned[c]);
        }
        if (all.rows == m_x.rows.rows())
            m_problem = problemOf(all, m_shift, plain, m_x.rows, m_data.y, m_data.weights);
        else
            m_problem = problemOf(m_x.rows, m_data.y, m_data.weights, plain, m_data.threads, progress);
        return *m_problem;
    }

    /// All penalties of one share.
    void follow(double l1Share, Progress& progress) {
        const PenaltyOptions plain = penaltyOptions(m_settings, l1Share, m_x.design, m_data);
        ProgressStage first(progress, 0, 0.3);
        PenaltyOptions options = plain;
        adaptFactors(m_settings, problemOfAll(plain, first), options, first);
        std::vector<double> penalties = m_settings.get<std::vector<double>>("penalties");
        const bool given = !penalties.empty();
        for (const double penalty : penalties)
            if (penalty < 0)
                throw Error(ErrorCode::badTerm, "a penalty to try is " + shortText(penalty),
                            {.file = m_data.file}, "Penalties are 0 or more.");
        if (!given) penalties = usualPenalties(*m_problem, options);
        const FieldValue& asked = m_settings.get(std::string_view("penalty"));
        if (const auto* number = std::get_if<double>(&asked)) penalties.push_back(*number);
        std::sort(penalties.begin(), penalties.end(), std::greater<>());
        penalties.erase(std::unique(penalties.begin(), penalties.end()), penalties.end());
        ProgressStage second(progress, 0.3, 1);
        std::vector<PenaltyPoint> points = judged(plain, options, penalties, second);
        const auto best = [&] {
            return std::min_element(
                       points.begin(), points.end(),
                       [](const auto& a, const auto& b) { return a.meanOfFoldMse < b.meanOfFoldMse; }) -
                   points.begin();
        };
        // A grid of its own making goes on where the best lies at its end.
        for (int k = 0; k < mostWidenings && !given && m_dealing && points.size() > 1 && !m_out->stopped();
             ++k) {
            const auto at = best();
            const bool down = at + 1 == static_cast<std::ptrdiff_t>(points.size());
            const bool up = at == 0 && points.front().kept > 0;
            if (!down && !up) break;
            const double step = penalties[1] / penalties[0];
            std::vector<double> further;
            for (int i = 1; i <= 40; ++i)
                further.push_back(down ? penalties.back() * std::pow(step, i)
                                       : penalties.front() * std::pow(step, i - 41));
            const auto more = judged(plain, options, further, second);
            points.insert(down ? points.end() : points.begin(), more.begin(), more.end());
            penalties.insert(down ? penalties.end() : penalties.begin(), further.begin(), further.end());
            const std::string said = "the grid of penalties was widened";
            if (m_out->note.find(said) == std::string::npos)
                m_out->note += (m_out->note.empty() ? "" : "; ") + said;
        }
        m_out->points.insert(m_out->points.end(), points.begin(), points.end());
    }

    /// The model of all rows at each penalty, and its error over the folds.
    std::vector<PenaltyPoint> judged(const PenaltyOptions& plain, const PenaltyOptions& options,
                                     const std::vector<double>& penalties, Progress& progress,
                                     bool detail = false) {
        std::vector<PenaltyPoint> points;
        if (detail)
            points.resize(penalties.size());
        else
            for (PenalisedPoint& each :
                 penalisedPath(*m_problem, options, penalties, progress, PathDigits::few))
                points.push_back({options.l1Share, each.penalty, nan, nan, each.kept, each.dualityGap,
                                  std::move(each.coefficients), each.constant});
        if (!m_dealing) return points;
        const std::size_t folds = m_dealing->size();
        std::vector<FoldPath> found(folds);
        if (sumsHold()) sumCells(progress);
        std::atomic<std::size_t> done{0};
        try {
            parallelFor(folds, m_data.threads, [&](std::size_t f) {
                progress.checkpoint(static_cast<double>(done) / static_cast<double>(folds),
                                    "Judging penalties, fold " + countText(f + 1) + " of " +
                                        countText(folds));
                FoldPath path = bySums() ? foldBySums(f, plain, penalties, detail, progress)
                                         : foldByRows(f, plain, penalties, detail, progress);
                found[f] = std::move(path);
                ++done;
            });
        } catch (const Stopped&) { // those done are kept
            if (done < 2 || !progress.serveStop()) throw;
            m_out->foldsDone = done;
            m_out->note += (m_out->note.empty() ? "" : "; ") + std::string("stopped after ") +
                           countText(std::size_t{done}) + " of " + countText(folds) +
                           " folds, by which penalties are judged";
        }
        for (std::size_t k = 0; k < points.size(); ++k) {
            std::tie(points[k].meanOfFoldMse, points[k].standardError) = spreadOf(found, &FoldPath::mse, k);
            if (!detail) continue;
            std::tie(points[k].relaxedMse, points[k].relaxedError) = spreadOf(found, &FoldPath::relaxed, k);
            points[k].keptShare.assign(m_x.design.columns().size(), 0);
            float judged = 0;
            for (const FoldPath& fold : found) {
                if (fold.kept.empty()) continue;
                ++judged;
                for (const Index j : fold.kept[k])
                    ++points[k].keptShare[static_cast<std::size_t>(j)];
            }
            for (float& share : points[k].keptShare)
                share /= std::max(judged, 1.0F);
        }
        return points;
    }

    /// What a fold says of each penalty: the mean squared error of its judged rows; of a detailed search that
    /// of least squares of the columns kept, too, and which these are.
    struct FoldPath {
        std::vector<double> mse, relaxed;
        std::vector<std::vector<Index>> kept;
    };

    /// Least squares of what a path keeps, point by point; with NaN where that is too much.
    static std::vector<PenalisedPoint> relaxedPath(const PenalisedProblem& problem,
                                                   const PenaltyOptions& options,
                                                   const std::vector<PenalisedPoint>& path, FoldPath& fold,
                                                   Progress& progress) {
        std::vector<PenalisedPoint> relaxed;
        for (const PenalisedPoint& point : path) {
            std::vector<Index> kept;
            for (Index j = 0; j < point.standardised.size(); ++j)
                if (point.standardised[j] != 0) kept.push_back(j);
            if (!fold.kept.empty() && fold.kept.back() == kept)
                relaxed.push_back(relaxed.back());
            else if (kept.size() > 300 || static_cast<Index>(kept.size()) + 1 >= problem.rows)
                relaxed.push_back({.coefficients = VectorXd::Constant(problem.columns(), nan)});
            else
                relaxed.push_back(relaxedPoint(problem, options, kept, progress));
            fold.kept.push_back(std::move(kept));
        }
        return relaxed;
    }

    /// Mean over folds at penalty `k`, and its standard error.
    std::pair<double, double> spreadOf(const std::vector<FoldPath>& found,
                                       std::vector<double> FoldPath::*part, std::size_t k) const {
        std::vector<double> mse(found.size(), nan);
        for (std::size_t f = 0; f < mse.size(); ++f)
            if (!(found[f].*part).empty()) mse[f] = (found[f].*part)[k];
        return spreadOfFolds(mse, m_dealing->foldsPerRepeat());
    }

    /// Sums over cells of rows hold the problem of every fold.
    bool sumsHold() const {
        if (!heldBySums(m_x.rows.rows(), m_x.rows.columns()) || m_plan.kind == FoldKind::bootstrap)
            return false;
        const double cells = static_cast<double>(m_dealing->cells() * m_dealing->repeats());
        const double times = m_data.weights.empty() ? 1 : 2;
        return cells * times * width() * width() < mostSums;
    }
    /// And all that it is judged by.
    bool bySums() const { return sumsHold() && !m_recipe.logResponse; }

    /// Cells, and one more of rows that are in no fold and learn in all of them: those without a value where
    /// a column says the folds.
    std::size_t pieces() const { return m_dealing->cells() + (m_plan.kind == FoldKind::column ? 1 : 0); }

    /// Rows that learn in a fold, and rows that are judged, as sums.
    std::pair<RowSums, RowSums> sumsOf(std::size_t fold) const {
        const std::size_t every = m_dealing->foldsPerRepeat(), all = pieces();
        const std::size_t repeat = fold / every, within = fold % every;
        RowSums learned, judged;
        for (std::size_t c = 0; c < all; ++c) {
            const RowSums& own = m_learned[repeat * all + c];
            if (c == m_dealing->cells() || m_dealing->learns(within, c)) learned.add(own);
            if (m_dealing->judges(within, c))
                judged.add(m_plainSums.empty() ? own : m_plainSums[repeat * all + c]);
        }
        return {std::move(learned), std::move(judged)};
    }

    std::vector<double> valuesAt(std::span<const double> values, std::span<const std::uint32_t> rows) const {
        std::vector<double> some;
        if (values.empty()) return some;
        some.reserve(rows.size());
        for (const auto row : rows)
            some.push_back(values[m_place[row]]);
        return some;
    }

    std::vector<std::uint32_t> placesOf(std::span<const std::uint32_t> rows) const {
        std::vector<std::uint32_t> places;
        places.reserve(rows.size());
        for (const auto row : rows)
            places.push_back(m_place[row]);
        return places;
    }

    void sumCells(Progress& progress) {
        if (!m_learned.empty()) return;
        m_shift = shiftOf(m_x.rows, m_data.y, m_data.intercept);
        const std::size_t cells = pieces();
        m_learned.resize(cells * m_dealing->repeats());
        if (!m_data.weights.empty()) m_plainSums.resize(m_learned.size());
        // Of large cells each is summed by all threads, small ones beside each other.
        for (std::size_t r = 0; r < m_dealing->repeats(); ++r) {
            std::vector<std::vector<std::uint32_t>> rows(cells);
            const auto cellOf = m_dealing->cellOf(r);
            for (std::size_t i = 0; i < m_dealing->rows().size(); ++i)
                if (cellOf[i] < cells) rows[cellOf[i]].push_back(m_dealing->rows()[i]);
            parallelFor(cells, m_data.threads, [&](std::size_t c) {
                const std::vector<std::uint32_t> places = placesOf(rows[c]);
                const PlacedRows x(m_x.rows, places);
                const auto y = valuesAt(m_data.y, rows[c]), w = valuesAt(m_data.weights, rows[c]);
                m_learned[r * cells + c] = sumRows(x, y, w, m_shift, m_data.threads, progress);
                if (!w.empty())
                    m_plainSums[r * cells + c] = sumRows(x, y, {}, m_shift, m_data.threads, progress);
            });
        }
    }

    FoldPath foldBySums(std::size_t fold, const PenaltyOptions& plain, const std::vector<double>& penalties,
                        bool detail, Progress& progress) const {
        const auto [learned, judged] = sumsOf(fold);
        if (judged.rows == 0 || learned.rows < 2 || !(learned.weight > 0)) return {};
        PenalisedProblem problem = problemOf(learned, m_shift, plain);
        // Where columns are nearly dependent the rows themselves are asked.
        std::optional<FoldRows> rows;
        problem.root = [&](const std::vector<Index>& columns) {
            if (!rows) rows.emplace(*this, m_dealing->fold(fold).learning);
            return rows->root(problem, columns);
        };
        PenaltyOptions options = plain;
        adaptFactors(m_settings, problem, options, progress);
        FoldPath found;
        const auto n = static_cast<double>(judged.rows);
        const MatrixXd xx = judged.xx.selfadjointView<Eigen::Lower>();
        const auto mseOf = [&](const PenalisedPoint& point) {
            const VectorXd& b = point.coefficients;
            const double level = point.constant + m_shift.x.dot(b) - m_shift.y;
            const double squares = judged.yy - 2 * level * judged.y - 2 * b.dot(judged.xy) +
                                   n * level * level + 2 * level * b.dot(judged.x) + b.dot(xx * b);
            return std::isnan(squares) ? nan : std::max(0.0, squares) / n;
        };
        const auto path = penalisedPath(problem, options, penalties, progress, PathDigits::few);
        for (const PenalisedPoint& point : path)
            found.mse.push_back(mseOf(point));
        if (detail)
            for (const PenalisedPoint& point : relaxedPath(problem, options, path, found, progress))
                found.relaxed.push_back(mseOf(point));
        return found;
    }

    /// Rows of a fold, by the design of all.
    struct FoldRows {
        std::vector<std::uint32_t> rows, places;
        std::vector<double> y, weights;
        PlacedRows x;
        FoldRows(const Search& search, std::vector<std::uint32_t> of)
            : rows(std::move(of)), places(search.placesOf(rows)), y(search.valuesAt(search.m_data.y, rows)),
              weights(search.valuesAt(search.m_data.weights, rows)), x(search.m_x.rows, places) {}
        FoldRows(const FoldRows&) = delete;
        FoldRows& operator=(const FoldRows&) = delete;
        MatrixXd root(const PenalisedProblem& problem, const std::vector<Index>& columns) const {
            return orthogonalRoot(x, y, weights, problem, columns);
        }
    };

    FoldPath foldByRows(std::size_t number, const PenaltyOptions& plain, const std::vector<double>& penalties,
                        bool detail, Progress& progress) const {
        const Fold fold = m_dealing->fold(number);
        if (fold.judged.empty() || fold.learning.size() < 2) return {};
        const FoldRows learned(*this, fold.learning);
        if (!learned.weights.empty() &&
            *std::max_element(learned.weights.begin(), learned.weights.end()) <= 0)
            return {};
        PenalisedProblem problem;
        if (sumsHold()) {
            problem = problemOf(sumsOf(number).first, m_shift, plain);
            problem.root = [&](const std::vector<Index>& columns) { return learned.root(problem, columns); };
        } else {
            problem = problemOf(learned.x, learned.y, learned.weights, plain, {1}, progress);
        }
        PenaltyOptions options = plain;
        adaptFactors(m_settings, problem, options, progress);
        FoldPath found;
        auto path = penalisedPath(problem, options, penalties, progress, PathDigits::few);
        if (detail)
            for (PenalisedPoint& point : relaxedPath(problem, options, path, found, progress))
                path.push_back(std::move(point));
        PathModels models;
        for (const PenalisedPoint& point : path)
            models.add(point.coefficients, point.constant);
        const Eigen::RowVectorXd squares = errorsOf(fold.judged, models, smearingOf(learned, models));
        const auto middle = squares.begin() + static_cast<std::ptrdiff_t>(penalties.size());
        found.mse.assign(squares.begin(), middle);
        found.relaxed.assign(middle, squares.end());
        return found;
    }

    /// Mean of exp(residual) over the rows learned from (Duan 1983), one a model.
    Eigen::RowVectorXd smearingOf(const FoldRows& learned, const PathModels& models) const {
        if (!m_recipe.logResponse) return Eigen::RowVectorXd::Ones(models.count());
        Eigen::RowVectorXd sum = Eigen::RowVectorXd::Zero(models.count());
        double whole = 0;
        eachBlock(learned.rows, models, [&](std::size_t begin, const MatrixXd& said) {
            const Index n = said.rows();
            const Eigen::Map<const VectorXd> y(learned.y.data() + begin, n);
            VectorXd w = VectorXd::Ones(n);
            if (!learned.weights.empty()) w = Eigen::Map<const VectorXd>(learned.weights.data() + begin, n);
            whole += w.sum();
            for (Index k = 0; k < said.cols(); ++k)
                sum[k] += (w.array() * (y - said.col(k)).array().exp()).sum();
        });
        return sum / whole;
    }

    /// What models say at some rows, block by block, each with the place of its first row among them.
    void eachBlock(std::span<const std::uint32_t> rows, const PathModels& models,
                   const std::function<void(std::size_t, const MatrixXd&)>& use) const {
        constexpr std::size_t size = 1024;
        MatrixXd columns, said;
        for (std::size_t begin = 0; begin < rows.size(); begin += size) {
            const auto some = rows.subspan(begin, std::min(size, rows.size() - begin));
            models.say(m_x.rows, placesOf(some), columns, said);
            use(begin, said);
        }
    }

    void choose() {
        PenaltySearch& out = *m_out;
        out.settings = m_settings;
        const FieldValue& asked = m_settings.get(std::string_view("penalty"));
        const auto* number = std::get_if<double>(&asked);
        const auto at = [&](double l1Share, double penalty) {
            for (std::size_t k = 0; k < out.points.size(); ++k)
                if (out.points[k].l1Share == l1Share && out.points[k].penalty == penalty) return k;
            return std::size_t{0};
        };
        if (out.judgedBy.empty()) { // nothing could be judged: what is held back most
            out.chosen = out.smallest = number ? at(out.points.front().l1Share, *number) : 0;
        } else {
            std::size_t best = out.points.size();
            for (std::size_t k = 0; k < out.points.size(); ++k) {
                if (number && out.points[k].penalty != *number) continue;
                if (std::isnan(out.points[k].meanOfFoldMse)) continue;
                if (best == out.points.size() || out.points[k].meanOfFoldMse < out.points[best].meanOfFoldMse)
                    best = k;
            }
            if (best == out.points.size()) best = 0;
            out.chosen = out.smallest = best;
            const auto* rule = std::get_if<std::string>(&asked);
            if (rule && *rule == "one standard error") {
                const double limit = out.points[best].meanOfFoldMse + out.points[best].standardError;
                for (std::size_t k = 0; k < out.points.size(); ++k)
                    if (out.points[k].l1Share == out.points[best].l1Share &&
                        out.points[k].penalty > out.points[out.chosen].penalty &&
                        out.points[k].meanOfFoldMse <= limit)
                        out.chosen = k;
            }
        }
        const PenaltyPoint& found = out.points[out.chosen];
        out.settings.fields["l1_share"] = found.l1Share;
        out.settings.fields["penalty"] = found.penalty;
        const auto& given = m_settings.get<std::vector<double>>("penalties");
        out.atEdge = !number && given.size() > 1 &&
                     (found.penalty == *std::min_element(given.begin(), given.end()) ||
                      (found.penalty == *std::max_element(given.begin(), given.end()) && found.kept > 0));
    }

    const Recipe& m_recipe;
    const Settings& m_settings;
    const Table& m_table;
    const TrainingData& m_data;
    Progress& m_progress;
    PenalisedRows m_x;
    ModelResponse m_working;
    /// Place of each row of the table among those learned from.
    std::vector<std::uint32_t> m_place;
    std::optional<PenalisedProblem> m_problem;
    std::optional<Dealing> m_dealing;
    FoldPlan m_plan;
    SumShift m_shift;
    /// Of the cells of every repeat, weighted, and not.
    std::vector<RowSums> m_learned, m_plainSums;
    std::shared_ptr<PenaltySearch> m_out = std::make_shared<PenaltySearch>();
};

} // namespace

std::shared_ptr<const PenaltySearch> searchPenalty(const Recipe& recipe, const Table& table,
                                                   const TrainingData& training, bool judge,
                                                   Progress& progress) {
    return Search(recipe, table, training, progress).run(judge || isSought(recipe.estimator));
}

SoughtModel learnSought(const Recipe& recipe, const Table& table, const TrainingData& training,
                        Progress& progress) {
    ProgressStage searching(progress, 0, 0.8), learning(progress, 0.8, 1);
    Search search(recipe, table, training, searching);
    auto found = search.run(true);
    return {std::move(found), search.fitAll(learning)};
}

std::shared_ptr<const PenaltySearch> refinedSearch(const PenaltySearch& search, const Recipe& recipe,
                                                   const Table& table, const TrainingData& training,
                                                   Progress& progress) {
    return Search(recipe, table, training, progress).refined(search);
}

std::shared_ptr<const PenaltySearch> detailedSearch(const PenaltySearch& search, const Recipe& recipe,
                                                    const Table& table, const TrainingData& training,
                                                    Progress& progress) {
    return Search(recipe, table, training, progress).detailed(search);
}

std::string pathFoldsCsv(const PenaltySearch& search) {
    CsvWriter out;
    for (const auto* name :
         {"penalty", "l1_share", "learning_mse", "relaxed_mean_of_fold_mse", "relaxed_standard_error"})
        out.text(name);
    for (const std::string& column : search.columns)
        out.text(column);
    out.endRow();
    for (const PenaltyPoint& point : search.points) {
        for (const double value :
             {point.penalty, point.l1Share, point.learningMse, point.relaxedMse, point.relaxedError})
            out.number(value);
        for (std::size_t j = 0; j < search.columns.size(); ++j)
            out.number(point.keptShare.empty() ? nan : static_cast<double>(point.keptShare[j]));
        out.endRow();
    }
    return out.bytes();
}

std::string pathCsv(const PenaltySearch& search) {
    CsvWriter out;
    for (const auto* name :
         {"penalty", "l1_share", "mean_of_fold_mse", "standard_error", "kept", "duality_gap", "intercept"})
        out.text(name);
    for (const std::string& column : search.columns)
        out.text(column);
    out.endRow();
    for (const PenaltyPoint& point : search.points) {
        for (const double value : {point.penalty, point.l1Share, point.meanOfFoldMse, point.standardError})
            out.number(value);
        out.count(point.kept);
        out.number(point.dualityGap).number(point.constant);
        for (const double b : point.coefficients)
            out.number(b);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad

#pragma once
// From terms and rows to the columns of a model matrix, with their names and origins.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/basis.h"
#include "design/inputs.h"
#include "design/row_source.h"
#include "design/term.h"
#include "table/table.h"

#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// A column of the model matrix: the product of its pieces.
struct DesignColumn {
    struct Piece {
        std::size_t input = 0;
        Basis basis;
    };
    std::string name;
    std::size_t term = 0;
    std::vector<Piece> pieces;
};

/// The columns of the model matrix, with levels and reference levels learned from learning rows.
/// The constant is not one of them: it is the estimator's.
class Design {
public:
    /// `rows` are the learning rows whose inputs are all present; the inputs are those that the terms name.
    /// Errors (badTerm): the same term twice, an empty product, a product of a part with itself, more than
    /// 5,000 columns beside up to 50,000 levels of one factor; those of learnInputs, learnNumberBasis and
    /// learnFactorBasis. Terms with notSelected[t]
    /// != 0 make no column and need no input; none when it is empty. Throws Stopped.
    static Design learn(const BoundInputs& inputs, std::span<const std::uint32_t> rows,
                        const std::vector<Term>& terms, const std::string& file,
                        std::span<const std::uint8_t> notSelected = {}, const Progress& progress = {});
    /// Learns the inputs first.
    static Design learn(const Table& table, std::span<const std::uint32_t> rows,
                        const std::vector<Term>& terms, const std::map<std::string, std::string>& references,
                        const std::string& file, const Progress& progress = {});

    const std::vector<Term>& terms() const { return m_terms; }
    const Inputs& inputs() const { return m_inputs; }
    const std::vector<DesignColumn>& columns() const { return m_columns; }

    /// A function that may be undefined where its column has a value: ln, negative powers.
    struct Guard {
        DesignColumn::Piece piece;
        std::string name;
    };
    const std::vector<Guard>& guards() const { return m_guards; }

    /// The columns at values of the inputs: m × inputs to m × columns. What is NaN there is NaN here.
    void fill(const Eigen::MatrixXd& inputs, Eigen::Ref<Eigen::MatrixXd> block) const;

    /// The columns that are 0 but at one level each of the factor with most levels, and the others, as
    /// RowLevels has them.
    struct LevelColumns {
        std::size_t input = 0;
        std::size_t levels = 0, perLevel = 1;
        std::vector<Eigen::Index> columns, rest;
        bool ones = true;
        /// Of each level of the input its place among `levels`; `levels` where no column is its.
        std::vector<std::uint32_t> placeOf;
        /// The slots as columns of the same inputs, whatever the level; null where the only slot is 1.
        std::shared_ptr<const Design> own;
        /// Of another factor the columns that say nothing but its level, as places in `rest`, rising, and the
        /// others: those of the factor that has most. None below 16.
        std::size_t secondInput = 0;
        std::vector<Eigen::Index> second, others;
    };
    /// Null where there are none.
    const std::shared_ptr<const LevelColumns>& levelColumns() const { return m_levelColumns; }
    /// X·B at values of the inputs, B of columns × k, without levels' columns being written out where they
    /// are many. NaN where a value that is asked for is.
    Eigen::MatrixXd times(const Eigen::MatrixXd& inputs, const Eigen::MatrixXd& b) const;

    /// One of them, whose inputs alone need to be there.
    void fillColumn(std::size_t column, const Eigen::MatrixXd& inputs, double* out) const;

    /// For reading what was learned: its parts as they were. `requireWhole` throws where they do not hang
    /// together, before anything is made of them.
    static Design of(Inputs inputs, std::vector<Term> terms, std::vector<DesignColumn> columns,
                     std::vector<Guard> guards, const std::function<void(const Design&)>& requireWhole);

private:
    void findLevelColumns();

    std::shared_ptr<const LevelColumns> m_levelColumns;
    std::vector<Guard> m_guards;
    std::vector<Term> m_terms;
    Inputs m_inputs;
    std::vector<DesignColumn> m_columns;
};

/// Errors (badTerm): more than 5,000 columns, which `what` would have to put into one matrix.
void requireOneMatrix(const Design& design, const std::string& what, const std::string& file);

/// Names of the columns that terms use, each once, in the order of first use.
std::vector<std::string> inputNames(const std::vector<Term>& terms);

/// A design applied to a table; both must outlive it. Learns nothing.
class BoundDesign {
public:
    /// Errors: unknownColumn, wrongType (text where numbers are needed, or the other way round).
    BoundDesign(const Design& design, const Table& table, const std::string& file)
        : BoundDesign(design, BoundInputs(design.inputs(), table, file)) {}
    /// `inputs` are those of the design.
    BoundDesign(const Design& design, BoundInputs inputs) : m_design(&design), m_inputs(std::move(inputs)) {}

    const Design& design() const { return *m_design; }
    const BoundInputs& inputs() const { return m_inputs; }
    /// True when every input has a value the design knows and every term is defined there.
    bool complete(std::size_t row) const;
    /// Why the row cannot be used, a phrase for each reason; empty when complete.
    std::vector<std::string> problems(std::size_t row) const;
    /// See BoundInputs::value.
    double inputValue(std::size_t input, std::size_t row) const { return m_inputs.value(input, row); }
    /// Rows of the model matrix, `rows.size()` × design().columns().size().
    void fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const;
    /// The same to about 32 digits (logarithms to 19), as sums hi + lo.
    void fillExact(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> hi,
                   Eigen::Ref<Eigen::MatrixXd> lo) const;
    /// Some of the columns, rising, at some rows: rows × chosen.
    void fillColumns(std::span<const std::uint32_t> rows, std::span<const Eigen::Index> chosen,
                     Eigen::Ref<Eigen::MatrixXd> block) const;

private:
    const Design* m_design;
    BoundInputs m_inputs;
};

/// Calls use(first, block) for every block of the chosen rows' model matrix, in parallel; `first` is the
/// place of the block's first row among them. Throws Stopped.
void forEachBlock(const BoundDesign& design, std::span<const std::uint32_t> rows, Threads threads,
                  Progress& progress,
                  const std::function<void(std::size_t first, const Eigen::MatrixXd& block)>& use);

/// The chosen rows of a bound design as a source of blocks.
class DesignRows final : public RowSource {
public:
    DesignRows(BoundDesign design, std::span<const std::uint32_t> rows)
        : m_design(std::move(design)), m_rows(rows) {}
    Eigen::Index rows() const override { return static_cast<Eigen::Index>(m_rows.size()); }
    Eigen::Index columns() const override {
        return static_cast<Eigen::Index>(m_design.design().columns().size());
    }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override {
        m_design.fill(m_rows.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(block.rows())),
                      block);
    }

    void fillExact(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> hi,
                   Eigen::Ref<Eigen::MatrixXd> lo) const override {
        m_design.fillExact(
            m_rows.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(hi.rows())), hi, lo);
    }
    /// What it returns refers to this.
    std::shared_ptr<const RowCells> cells(Eigen::Index most) const override;
    std::shared_ptr<const RowLevels> levels() const override;

private:
    std::shared_ptr<const RowLevels::Second> secondLevels(const Design::LevelColumns& known) const;

    BoundDesign m_design;
    std::span<const std::uint32_t> m_rows;
};

} // namespace oxgoad

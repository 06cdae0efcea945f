#pragma once
// From terms and rows to the columns of a model matrix, with their names and origins.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/basis.h"
#include "design/row_source.h"
#include "design/term.h"
#include "table/table.h"

#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <map>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// A column of the table that terms use.
struct DesignInput {
    std::string name;
    bool factor = false;
    /// Levels that occur in the learning rows, in the table's order; factors only.
    std::vector<std::string> levels;
    std::size_t referenceLevel = 0;
    /// A date, whose values are days since 1970-01-01; or whole numbers that are years.
    bool date = false, years = false;

    /// A value for people: "2024-05-01", "1970", "12,500"; the level of a factor.
    std::string valueText(double value) const;
};

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
    /// `rows` are the learning rows whose inputs are all present. References name a level per factor;
    /// where none is named the first level in natural order is the reference.
    /// Errors: unknownColumn, wrongType (a text column), badTerm (a factor with one level, a reference
    /// level that no learning row has, the same term twice, an empty product, a product of a part with
    /// itself, more than 5,000 columns; those of learnNumberBasis and learnFactorBasis).
    static Design learn(const Table& table, std::span<const std::uint32_t> rows,
                        const std::vector<Term>& terms, const std::map<std::string, std::string>& references,
                        const std::string& file);

    const std::vector<Term>& terms() const { return m_terms; }
    const std::vector<DesignInput>& inputs() const { return m_inputs; }
    const std::vector<DesignColumn>& columns() const { return m_columns; }

    /// A function that may be undefined where its column has a value: ln, negative powers.
    struct Guard {
        DesignColumn::Piece piece;
        std::string name;
    };
    const std::vector<Guard>& guards() const { return m_guards; }

private:
    std::vector<Guard> m_guards;
    std::vector<Term> m_terms;
    std::vector<DesignInput> m_inputs;
    std::vector<DesignColumn> m_columns;
};

/// Names of the columns that terms use, each once, in the order of first use.
std::vector<std::string> inputNames(const std::vector<Term>& terms);

/// A design applied to a table, which must outlive it. Learns nothing.
class BoundDesign {
public:
    /// Errors: unknownColumn, wrongType (text where numbers are needed, or the other way round).
    BoundDesign(const Design& design, const Table& table, const std::string& file);

    const Design& design() const { return *m_design; }
    /// True when every input has a value the design knows and every term is defined there.
    bool complete(std::size_t row) const;
    /// Why the row cannot be used, a phrase for each reason; empty when complete.
    std::vector<std::string> problems(std::size_t row) const;
    /// Value of an input: a number, or the index of its level in the design; NaN when missing or unseen.
    double inputValue(std::size_t input, std::size_t row) const;
    /// Rows of the model matrix, `rows.size()` × design().columns().size(). Requires complete rows.
    void fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const;
    /// The same to about 32 digits (logarithms to 19), as sums hi + lo.
    void fillExact(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> hi,
                   Eigen::Ref<Eigen::MatrixXd> lo) const;

private:
    struct Source {
        const Column* column = nullptr;
        /// From the table's code to the design's level; -2 for a level the design never saw.
        std::vector<std::int32_t> levelOfCode;
    };
    const Design* m_design;
    std::vector<Source> m_sources;
};

/// Rows of the model matrix made at a time.
inline constexpr std::size_t designBlockRows = 4096;

/// Calls use(first, block) for every block of the chosen rows' model matrix, in parallel; `first` is the
/// place of the block's first row among them. Throws Stopped.
void forEachBlock(const BoundDesign& design, std::span<const std::uint32_t> rows, Threads threads,
                  Progress& progress,
                  const std::function<void(std::size_t first, const Eigen::MatrixXd& block)>& use);

/// The chosen rows of a bound design as a source of blocks.
class DesignRows final : public RowSource {
public:
    DesignRows(const BoundDesign& design, std::span<const std::uint32_t> rows)
        : m_design(design), m_rows(rows) {}
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

private:
    const BoundDesign& m_design;
    std::span<const std::uint32_t> m_rows;
};

} // namespace oxgoad

#pragma once
// Rows of a design that are read again and again.
#include "base/parallel.h"
#include "design/design.h"
#include "design/row_source.h"

#include <Eigen/Core>

#include <cstdint>
#include <span>

namespace oxgoad {

/// Rows of a design whose columns are made once, and kept, where they are at most `most` numbers; otherwise
/// whenever they are asked for. The numbers are the same either way. The rows outlive it.
class HeldRows final : public RowSource {
public:
    static constexpr double most = 4e6;

    HeldRows(BoundDesign design, std::span<const std::uint32_t> rows, Threads threads = {});
    Eigen::Index rows() const override { return m_made.rows(); }
    Eigen::Index columns() const override { return m_made.columns(); }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override;
    /// Rows by their places among these, one a row of `block`; and some columns of them, one a column of it.
    void fillAt(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block) const;
    void fillAt(std::span<const std::uint32_t> places, std::span<const Eigen::Index> columns,
                Eigen::Ref<Eigen::MatrixXd> block) const;

private:
    void make(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block) const;
    void gather(Eigen::Index column, std::span<const std::uint32_t> places,
                Eigen::Ref<Eigen::VectorXd> to) const;

    BoundDesign m_design;
    std::span<const std::uint32_t> m_rows;
    DesignRows m_made;
    Eigen::MatrixXd m_held;
};

/// Some of them by their places. Refers to both.
class PlacedRows final : public RowSource {
public:
    PlacedRows(const HeldRows& all, std::span<const std::uint32_t> places) : m_all(all), m_places(places) {}
    Eigen::Index rows() const override { return static_cast<Eigen::Index>(m_places.size()); }
    Eigen::Index columns() const override { return m_all.columns(); }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override {
        m_all.fillAt(
            m_places.subspan(static_cast<std::size_t>(begin), static_cast<std::size_t>(block.rows())), block);
    }

private:
    const HeldRows& m_all;
    std::span<const std::uint32_t> m_places;
};

} // namespace oxgoad

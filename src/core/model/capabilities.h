#pragma once
// What a kind of model can do, said once and asked before it learns.

namespace oxgoad {

/// A value that has no default: a kind that leaves it out does not compile.
template <class T> class Stated {
public:
    constexpr Stated(T value) : m_value(value) {}
    constexpr operator T() const { return m_value; }

private:
    T m_value;
};

/// What a kind makes intervals of single values of.
enum class IntervalSource {
    /// Of nothing: it gives none.
    none,
    /// Of the distribution that the theory of the method gives.
    theory,
    /// Of two quantiles that it learns.
    quantiles,
    /// Of the quantiles of what it says the response is distributed as (LearnedModel::quantiles).
    distribution,
    /// Of errors of rows that were not learned from (TrainingResults::unseen).
    unseenErrors
};

/// What it makes of rows that weigh differently.
enum class WeightUse {
    refused,
    accepted,
    /// And predicts for a row of weight 2 as for the row twice.
    asCopies
};

struct Capabilities {
    Stated<WeightUse> weights;
    Stated<IntervalSource> intervals;
    /// Learning goes in rounds and can end before it has converged (FitOutcome).
    Stated<bool> iterates;
    /// How it reads what it is told: columns as they are, or terms with coefficients.
    enum class Terms { columns, formula };
    Terms terms = Terms::columns;
    /// A column added to what it says.
    bool offset = true;
    /// Inputs may be missing, while learning and after.
    bool missingInputs = false;
    /// What the response may be.
    enum class Response {
        number,
        /// Above 0.
        positive,
        /// 0 or more.
        notNegative,
        /// A few whole numbers in an order.
        ordered
    };
    Response response = Response::number;
    /// The logarithm of the response can be learned instead; not for kinds that have a link of their own.
    bool logResponse = true;
    /// The response is learned as it is, and an offset is on the scale of what is said
    /// (TrainingData::offsets): of kinds that give a link of their own.
    bool ownLink = false;
};

} // namespace oxgoad

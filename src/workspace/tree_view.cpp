#include "workspace/tree_view.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

std::shared_ptr<const TreeView> treeView(const Session& session) {
    const auto evidence = session.evidence();
    const auto prepared = session.prepared();
    if (!evidence || !evidence->study || !prepared) return nullptr;
    const auto* model = dynamic_cast<const TreeModel*>(evidence->study->model.get());
    if (!model) return nullptr;
    auto view = std::make_shared<TreeView>();
    view->study = evidence->study;
    view->model = model;
    view->response = qs(evidence->response);
    view->unit = session.unit(evidence->response);
    view->sequence = model->sequence();
    constexpr std::size_t most = 1500;
    const auto& rows = evidence->study->rows;
    const std::size_t stride = std::max<std::size_t>(1, (rows.size() + most - 1) / most);
    std::vector<std::uint32_t> some;
    const auto numbers = prepared->table.at(evidence->response, {}).numbers();
    for (std::size_t i = 0; i < rows.size(); i += stride) {
        some.push_back(rows[i]);
        view->actual.push_back(numbers[rows[i]]);
    }
    const BoundModel bound = evidence->study->bind(prepared->table, {});
    const BoundInputs& inputs = bound.inputs();
    view->inputs.resize(static_cast<Eigen::Index>(some.size()),
                        static_cast<Eigen::Index>(model->inputs().size()));
    inputs.fill(some, view->inputs);
    if (const auto row = session.selectedRow(); row && *row < prepared->table.rows()) {
        view->row = static_cast<std::uint32_t>(*row);
        for (std::size_t j = 0; j < model->inputs().size(); ++j)
            view->rowInputs.push_back(inputs.value(j, *row));
        view->rowActual = numbers[*row];
    }
    return view;
}

QString wayText(const TreeView& view, const double* inputs, double complexity) {
    const auto& nodes = view.model->grown();
    QStringList steps;
    std::size_t at = 0;
    while (nodes[at].asks() && nodes[at].cutAt > complexity) {
        const TreeNode& node = nodes[at];
        const bool left = view.model->goesLeft(node, inputs);
        steps << qs(view.model->question(node, left));
        at = static_cast<std::size_t>(left ? node.left : node.right);
    }
    const TreeNode& leaf = nodes[at];
    const PredictionRule& rule = view.study->rule;
    const bool logs = rule.link.isLogarithmic();
    const int decimals =
        decimalsFor(logs ? 1e-2 * rule.toResponseScale(nodes[0].mean) : std::sqrt(nodes[0].mse));
    const double scale = std::pow(10, decimals);
    return (steps.isEmpty() ? QStringLiteral("all rows") : steps.join(QString::fromUtf8(", then "))) +
           QString::fromUtf8(" → ") +
           qs(groupedText(std::round(rule.toResponseScale(leaf.mean) * scale) / scale)) +
           (view.unit.isEmpty() ? QString() : " " + view.unit) + ", from " +
           qs(plural(leaf.rows, "row", "rows")) +
           (logs ? QString()
                 : ", typically off by " + qs(groupedText(std::round(std::sqrt(leaf.mse) * scale) / scale)));
}

} // namespace oxgoad

#include "hand_on/onnx_out.h"

#include "base/error.h"
#include "hand_on/say.h"

#define ONNX_API
#define ONNX_ML 1
#define ONNX_NAMESPACE onnx
#include <onnx/onnx-ml.pb.h>

#include <cmath>
#include <map>
#include <numbers>

namespace oxgoad {

namespace {

using scoring::Op;

class OnnxWriter {
public:
    explicit OnnxWriter(const Program& program) : m_program(program) {
        m_model.set_ir_version(7);
        m_model.set_producer_name("Oxgoad");
        m_model.set_doc_string(program.response + " by " + program.sentence);
        auto* plain = m_model.add_opset_import();
        plain->set_domain("");
        plain->set_version(13);
        auto* learning = m_model.add_opset_import();
        learning->set_domain("ai.onnx.ml");
        learning->set_version(2);
        m_graph = m_model.mutable_graph();
        m_graph->set_name("model");
    }

    std::string run() {
        for (const Program::Source& source : m_program.sources)
            describe(*m_graph->add_input(), source.name,
                     source.kind == Program::Kind::text ? onnx::TensorProto::STRING
                                                        : onnx::TensorProto::DOUBLE);
        for (const Program::Step& step : m_program.steps)
            m_steps.push_back(said(*step.value));
        const std::string none = constant(NAN);
        std::string outside;
        for (const Program::Reason& reason : m_program.reasons)
            if (reason.outside)
                outside = outside.empty() ? said(*reason.holds) : add("Or", {outside, said(*reason.holds)});
        output(said(*m_program.prediction), "prediction");
        const bool bounds = m_program.noIntervals.empty();
        output(bounds ? said(*m_program.lower) : none, "lower");
        output(bounds ? said(*m_program.upper) : none, "upper");
        if (!outside.empty()) output(cast(outside, onnx::TensorProto::DOUBLE), "outside");
        std::string bytes;
        m_model.SerializeToString(&bytes);
        return bytes;
    }

private:
    static void describe(onnx::ValueInfoProto& info, const std::string& name, int type) {
        info.set_name(name);
        auto* tensor = info.mutable_type()->mutable_tensor_type();
        tensor->set_elem_type(type);
        tensor->mutable_shape()->add_dim()->set_dim_param("rows");
        tensor->mutable_shape()->add_dim()->set_dim_value(1);
    }

    std::string fresh() { return "oxgoad:" + std::to_string(++m_names); }

    std::string add(const std::string& op, const std::vector<std::string>& of, const std::string& to = {}) {
        onnx::NodeProto* node = m_graph->add_node();
        node->set_op_type(op);
        for (const std::string& each : of)
            node->add_input(each);
        const std::string name = to.empty() ? fresh() : to;
        node->add_output(name);
        return name;
    }

    std::string cast(const std::string& of, int type) {
        const std::string name = add("Cast", {of});
        auto* attribute = m_graph->mutable_node(m_graph->node_size() - 1)->add_attribute();
        attribute->set_name("to");
        attribute->set_type(onnx::AttributeProto::INT);
        attribute->set_i(type);
        return name;
    }

    /// As many rows as the columns have, whatever the value is made of.
    void output(const std::string& value, const std::string& name) {
        if (m_program.sources.empty()) {
            add("Identity", {value}, name);
        } else {
            // A sum with what is 0 in every row.
            if (m_zero.empty()) {
                const Program::Source& first = m_program.sources.front();
                const std::string there =
                    first.kind == Program::Kind::text ? equalTo(first.name, "") : add("IsNaN", {first.name});
                m_zero = add("Mul", {cast(there, onnx::TensorProto::DOUBLE), constant(0)});
            }
            add("Add", {value, m_zero}, name);
        }
        describe(*m_graph->add_output(), name, onnx::TensorProto::DOUBLE);
    }

    std::string constant(double value) {
        auto& known = m_constants[std::isnan(value) ? std::pair(true, 0.0) : std::pair(false, value)];
        if (known.empty()) {
            known = fresh();
            onnx::TensorProto* tensor = m_graph->add_initializer();
            tensor->set_name(known);
            tensor->set_data_type(onnx::TensorProto::DOUBLE);
            tensor->add_dims(1);
            tensor->add_dims(1);
            tensor->add_double_data(value);
        }
        return known;
    }

    std::string text(const std::string& value) {
        const std::string name = fresh();
        onnx::TensorProto* tensor = m_graph->add_initializer();
        tensor->set_name(name);
        tensor->set_data_type(onnx::TensorProto::STRING);
        tensor->add_dims(1);
        tensor->add_dims(1);
        tensor->add_string_data(value);
        return name;
    }

    /// Texts are told apart by the encoder of labels.
    std::string equalTo(const std::string& tensor, const std::string& value) {
        auto& known = m_equal[{tensor, value}];
        if (!known.empty()) return known;
        const std::string code = add("LabelEncoder", {tensor});
        onnx::NodeProto* node = m_graph->mutable_node(m_graph->node_size() - 1);
        node->set_domain("ai.onnx.ml");
        auto* keys = node->add_attribute();
        keys->set_name("keys_strings");
        keys->set_type(onnx::AttributeProto::STRINGS);
        keys->add_strings(value);
        auto* values = node->add_attribute();
        values->set_name("values_floats");
        values->set_type(onnx::AttributeProto::FLOATS);
        values->add_floats(1);
        auto* otherwise = node->add_attribute();
        otherwise->set_name("default_float");
        otherwise->set_type(onnx::AttributeProto::FLOAT);
        otherwise->set_f(0);
        return known = cast(code, onnx::TensorProto::BOOL);
    }

    std::string compared(const ScoreNode& node) {
        const bool first = node.of[0]->op == Op::word;
        if (!first && node.of[1]->op != Op::word)
            throw Error(ErrorCode::badTerm,
                        "texts that are compared with each other have no operator in this format");
        return equalTo(said(*node.of[first ? 1 : 0]), node.of[first ? 0 : 1]->text);
    }

    std::string said(const ScoreNode& node) {
        const auto a = [&](std::size_t i) { return said(*node.of[i]); };
        const auto call = [&](const char* op) {
            std::vector<std::string> of;
            for (std::size_t i = 0; i < node.of.size(); ++i)
                of.push_back(a(i));
            return add(op, of);
        };
        switch (node.op) {
        case Op::constant:
            return constant(node.number);
        case Op::missing:
            return constant(NAN);
        case Op::source:
            return m_program.sources[node.index].name;
        case Op::variable:
            return m_steps[node.index];
        case Op::add:
            return call("Add");
        case Op::subtract:
            return call("Sub");
        case Op::multiply:
            return call("Mul");
        case Op::divide:
            return call("Div");
        case Op::power:
            return call("Pow");
        case Op::negate:
            return call("Neg");
        case Op::ln:
            return call("Log");
        case Op::log10:
            return add("Div", {call("Log"), constant(std::log(10.0))});
        case Op::exp:
            return call("Exp");
        case Op::root:
            return call("Sqrt");
        case Op::absolute:
            return call("Abs");
        case Op::floor:
            return call("Floor");
        case Op::sine:
            return call("Sin");
        case Op::cosine: // runtimes know the sine of doubles
            return add("Sin", {add("Add", {a(0), constant(std::numbers::pi / 2)})});
        case Op::least:
        case Op::most: {
            const std::string x = a(0), y = a(1);
            const std::string least = add(
                "Where", {add("Less", {x, y}), node.op == Op::least ? x : y, node.op == Op::least ? y : x});
            // What is missing makes the sum missing.
            const std::string gone = add("IsNaN", {add("Add", {x, y})});
            return add("Where", {gone, constant(NAN), least});
        }
        case Op::choose:
            return call("Where");
        case Op::word:
            return text(node.text);
        case Op::join:
            throw Error(ErrorCode::badTerm, "texts that are put together have no operator in this format", {},
                        "Hand the model on as SQL, C or Python.");
        case Op::below:
            return call("Less");
        case Op::atMost:
            return call("LessOrEqual");
        case Op::equal:
            return call("Equal");
        case Op::unequal: {
            const std::string x = a(0), y = a(1);
            return add("Or", {add("Less", {x, y}), add("Less", {y, x})});
        }
        case Op::same:
            return compared(node);
        case Op::other:
            return add("Not", {compared(node)});
        case Op::both:
            return call("And");
        case Op::either:
            return call("Or");
        case Op::lacks:
            return node.of[0]->isText ? equalTo(a(0), "") : call("IsNaN");
        }
        return constant(NAN);
    }

    const Program& m_program;
    onnx::ModelProto m_model;
    onnx::GraphProto* m_graph = nullptr;
    std::vector<std::string> m_steps;
    std::map<std::pair<bool, double>, std::string> m_constants;
    std::map<std::pair<std::string, std::string>, std::string> m_equal;
    std::string m_zero;
    std::size_t m_names = 0;
};

} // namespace

std::string onnxOf(const Program& program) {
    return OnnxWriter(program).run();
}

} // namespace oxgoad

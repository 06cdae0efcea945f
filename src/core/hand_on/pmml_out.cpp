#include "hand_on/pmml_out.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "hand_on/notation.h"
#include "hand_on/say.h"
#include "table/values.h"

#include <expat.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <memory>

namespace oxgoad {

namespace {

using scoring::Op;

class PmmlWriter {
public:
    explicit PmmlWriter(const Program& program) : m_program(program) {}

    std::string run() {
        std::string out =
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<PMML xmlns=\"http://www.dmg.org/PMML-4_4\" "
            "version=\"4.4\">\n<Header description=\"" +
            markupText(m_program.response + " by " + m_program.sentence) +
            "\"><Application name=\"Oxgoad\"/></Header>\n<DataDictionary>\n";
        for (const Program::Source& source : m_program.sources)
            out += source.kind == Program::Kind::text
                       ? "<DataField name=\"" + markupText(source.name) +
                             "\" optype=\"categorical\" dataType=\"string\"/>\n"
                       : "<DataField name=\"" + markupText(source.name) +
                             "\" optype=\"continuous\" dataType=\"double\"/>\n";
        out += "<DataField name=\"" + markupText(m_program.response) +
               "\" optype=\"continuous\" dataType=\"double\"/>\n</DataDictionary>\n"
               "<RegressionModel functionName=\"regression\" modelName=\"" +
               markupText(m_program.response) + "\">\n<MiningSchema>\n";
        for (const Program::Source& source : m_program.sources)
            out += "<MiningField name=\"" + markupText(source.name) + "\" usageType=\"active\"/>\n";
        out += "<MiningField name=\"" + markupText(m_program.response) +
               "\" usageType=\"target\"/>\n</MiningSchema>\n";
        const bool bounds = m_program.noIntervals.empty();
        out += "<Output>\n<OutputField name=\"prediction\" optype=\"continuous\" dataType=\"double\" "
               "feature=\"predictedValue\"/>\n";
        if (bounds)
            for (const char* name : {"lower", "upper"})
                out += std::string("<OutputField name=\"") + name +
                       "\" optype=\"continuous\" dataType=\"double\" feature=\"transformedValue\"><FieldRef "
                       "field=\"model: " +
                       name + "\"/></OutputField>\n";
        out += "</Output>\n<LocalTransformations>\n";
        for (std::size_t k = 0; k < m_program.sources.size(); ++k) {
            const std::string field = "<FieldRef field=\"" + markupText(m_program.sources[k].name) + "\"/>";
            const bool text = m_program.sources[k].kind == Program::Kind::text;
            out += derived("c" + std::to_string(k), text,
                           text ? "<Apply function=\"if\"><Apply function=\"isMissing\">" + field +
                                      "</Apply><Constant dataType=\"string\"></Constant>" + field + "</Apply>"
                                : field);
        }
        for (std::size_t k = 0; k < m_program.steps.size(); ++k)
            out += derived("v" + std::to_string(k), m_program.steps[k].value->isText,
                           said(*m_program.steps[k].value));
        out += derived("model: prediction", false, said(*m_program.prediction));
        if (bounds) {
            out += derived("model: lower", false, said(*m_program.lower));
            out += derived("model: upper", false, said(*m_program.upper));
        }
        return out + "</LocalTransformations>\n<RegressionTable intercept=\"0\"><NumericPredictor "
                     "name=\"model: prediction\" "
                     "coefficient=\"1\"/></RegressionTable>\n</RegressionModel>\n</PMML>\n";
    }

private:
    static std::string derived(const std::string& name, bool text, const std::string& value) {
        return "<DerivedField name=\"" + name +
               (text ? "\" optype=\"categorical\" dataType=\"string\">"
                     : "\" optype=\"continuous\" dataType=\"double\">") +
               value + "</DerivedField>\n";
    }
    std::string apply(const ScoreNode& node, const char* function, const char* more = "") const {
        std::string out = std::string("<Apply function=\"") + function + "\"" + more + ">";
        for (const Said& part : node.of)
            out += said(*part);
        return out + "</Apply>";
    }
    std::string said(const ScoreNode& node) const {
        // What compares with something missing does not hold.
        constexpr const char* fails = " mapMissingTo=\"false\"";
        switch (node.op) {
        case Op::constant:
            return "<Constant dataType=\"double\">" + exactText(node.number) + "</Constant>";
        case Op::missing:
            return "<Constant dataType=\"double\" missing=\"true\"/>";
        case Op::source:
            return "<FieldRef field=\"c" + std::to_string(node.index) + "\"/>";
        case Op::variable:
            return "<FieldRef field=\"v" + std::to_string(node.index) + "\"/>";
        case Op::add:
            return apply(node, "+");
        case Op::subtract:
            return apply(node, "-");
        case Op::multiply:
            return apply(node, "*");
        case Op::divide:
            return apply(node, "/");
        case Op::power:
            return apply(node, "pow");
        case Op::negate:
            return "<Apply function=\"-\"><Constant dataType=\"double\">0</Constant>" + said(*node.of[0]) +
                   "</Apply>";
        case Op::ln:
            return apply(node, "ln");
        case Op::log10:
            return apply(node, "log10");
        case Op::exp:
            return apply(node, "exp");
        case Op::root:
            return apply(node, "sqrt");
        case Op::absolute:
            return apply(node, "abs");
        case Op::floor:
            return apply(node, "floor");
        case Op::sine:
            return apply(node, "sin");
        case Op::cosine:
            return apply(node, "cos");
        case Op::least:
        case Op::most: // min and max pass over what is missing
            return "<Apply function=\"if\"><Apply function=\"isMissing\"><Apply function=\"+\">" +
                   said(*node.of[0]) + said(*node.of[1]) +
                   "</Apply></Apply><Constant dataType=\"double\" missing=\"true\"/>" +
                   apply(node, node.op == Op::least ? "min" : "max") + "</Apply>";
        case Op::choose:
            return apply(node, "if");
        case Op::word:
            return "<Constant dataType=\"string\">" + markupText(node.text) + "</Constant>";
        case Op::join:
            return apply(node, "concat");
        case Op::below:
            return apply(node, "lessThan", fails);
        case Op::atMost:
            return apply(node, "lessOrEqual", fails);
        case Op::equal:
        case Op::same:
            return apply(node, "equal", fails);
        case Op::unequal:
        case Op::other:
            return apply(node, "notEqual", fails);
        case Op::both:
            return apply(node, "and");
        case Op::either:
            return apply(node, "or");
        case Op::lacks:
            if (node.of[0]->isText)
                return "<Apply function=\"equal\" mapMissingTo=\"false\">" + said(*node.of[0]) +
                       "<Constant dataType=\"string\"></Constant></Apply>";
            return apply(node, "isMissing");
        }
        return {};
    }

    const Program& m_program;
};

/// An element as it was read.
struct Element {
    std::string name, text;
    std::map<std::string, std::string> attributes;
    std::vector<std::unique_ptr<Element>> children;
    const std::string& at(const std::string& attribute) const {
        static const std::string none;
        const auto found = attributes.find(attribute);
        return found == attributes.end() ? none : found->second;
    }
};

[[noreturn]] void notPmml(const std::string& what) {
    throw Error(ErrorCode::badProject,
                "this is no model in the markup language as it is written here: " + what);
}

struct ElementReader {
    Element root;
    std::vector<Element*> open{&root};

    static void opened(void* self, const char* name, const char** attributes) {
        auto& reader = *static_cast<ElementReader*>(self);
        auto element = std::make_unique<Element>();
        element->name = name;
        for (const char** a = attributes; *a; a += 2)
            element->attributes[a[0]] = a[1];
        Element* at = element.get();
        reader.open.back()->children.push_back(std::move(element));
        reader.open.push_back(at);
    }
    static void closed(void* self, const char*) { static_cast<ElementReader*>(self)->open.pop_back(); }
    static void said(void* self, const char* text, int length) {
        static_cast<ElementReader*>(self)->open.back()->text.append(text, static_cast<std::size_t>(length));
    }
    void read(std::string_view bytes) {
        const std::unique_ptr<std::remove_pointer_t<XML_Parser>, decltype(&XML_ParserFree)> parser(
            XML_ParserCreate("UTF-8"), &XML_ParserFree);
        XML_SetUserData(parser.get(), this);
        XML_SetElementHandler(parser.get(), opened, closed);
        XML_SetCharacterDataHandler(parser.get(), said);
        if (XML_Parse(parser.get(), bytes.data(), static_cast<int>(bytes.size()), 1) != XML_STATUS_OK)
            notPmml(XML_ErrorString(XML_GetErrorCode(parser.get())));
    }
};

const Element& childOf(const Element& element, const std::string& name) {
    for (const auto& child : element.children)
        if (child->name == name) return *child;
    notPmml("it has no " + name);
}

struct PmmlValue {
    bool gone = false;
    double number = 0;
    std::string text{};
    bool isText = false;
};

class PmmlRunner {
public:
    std::map<std::string, PmmlValue> fields;

    PmmlValue of(const Element& e) const {
        if (e.name == "FieldRef") {
            const auto found = fields.find(e.at("field"));
            if (found == fields.end()) notPmml("there is no field " + e.at("field"));
            return found->second;
        }
        if (e.name == "Constant") {
            if (e.at("missing") == "true") return {true};
            if (e.at("dataType") == "string") return {false, 0, e.text, true};
            const auto value = parseNumber(e.text, '.');
            if (!value) notPmml(e.text + " is no number");
            return {false, *value};
        }
        if (e.name != "Apply") notPmml("what " + e.name + " is");
        return apply(e);
    }

private:
    PmmlValue apply(const Element& e) const {
        const std::string& f = e.at("function");
        const auto a = [&](std::size_t i) {
            if (i >= e.children.size()) notPmml(f + " lacks something");
            return of(*e.children[i]);
        };
        if (f == "if") {
            const PmmlValue holds = a(0);
            return holds.gone ? PmmlValue{true} : a(holds.number != 0 ? 1 : 2);
        }
        if (f == "isMissing") return {false, a(0).gone ? 1.0 : 0.0};
        if (f == "and") return {false, a(0).number != 0 && a(1).number != 0 ? 1.0 : 0.0};
        if (f == "or") return {false, a(0).number != 0 || a(1).number != 0 ? 1.0 : 0.0};
        std::vector<PmmlValue> of;
        for (std::size_t i = 0; i < e.children.size(); ++i)
            of.push_back(a(i));
        if (std::any_of(of.begin(), of.end(), [](const PmmlValue& v) { return v.gone; }))
            return e.at("mapMissingTo").empty() ? PmmlValue{true} : PmmlValue{false, 0};
        if (f == "concat") {
            PmmlValue out{false, 0, {}, true};
            for (const PmmlValue& part : of)
                out.text += part.text;
            return out;
        }
        if (of.empty()) notPmml(f + " lacks something");
        const double x = of[0].number, y = of.size() > 1 ? of[1].number : 0;
        if (f == "equal" || f == "notEqual") {
            const bool same = of[0].isText ? of[0].text == of[1].text : x == y;
            return {false, same == (f == "equal") ? 1.0 : 0.0};
        }
        const auto number = [](double value) {
            return std::isfinite(value) ? PmmlValue{false, value} : PmmlValue{true};
        };
        if (f == "+") return number(x + y);
        if (f == "-") return number(x - y);
        if (f == "*") return number(x * y);
        if (f == "/") return number(x / y);
        if (f == "pow") return number(std::pow(x, y));
        if (f == "ln") return number(std::log(x));
        if (f == "log10") return number(std::log10(x));
        if (f == "exp") return number(std::exp(x));
        if (f == "sqrt") return number(std::sqrt(x));
        if (f == "abs") return number(std::fabs(x));
        if (f == "floor") return number(std::floor(x));
        if (f == "sin") return number(std::sin(x));
        if (f == "cos") return number(std::cos(x));
        if (f == "min") return number(std::min(x, y));
        if (f == "max") return number(std::max(x, y));
        if (f == "lessThan") return {false, x < y ? 1.0 : 0.0};
        if (f == "lessOrEqual") return {false, x <= y ? 1.0 : 0.0};
        notPmml("the function " + f);
    }
};

} // namespace

std::string pmmlOf(const Program& program) {
    return PmmlWriter(program).run();
}

std::vector<double> runPmml(std::string_view pmml, const Program& program,
                            const std::vector<ProgramRow>& rows) {
    ElementReader reader;
    reader.read(pmml);
    const Element& model = childOf(childOf(reader.root, "PMML"), "RegressionModel");
    const Element& steps = childOf(model, "LocalTransformations");
    const Element& table = childOf(model, "RegressionTable");
    std::vector<double> out;
    for (const ProgramRow& row : rows) {
        PmmlRunner runner;
        for (std::size_t k = 0; k < program.sources.size(); ++k) {
            const bool text = program.sources[k].kind == Program::Kind::text;
            runner.fields[program.sources[k].name] =
                text ? PmmlValue{row.texts[k].empty(), 0, row.texts[k], true}
                     : PmmlValue{std::isnan(row.numbers[k]), row.numbers[k]};
        }
        for (const auto& field : steps.children)
            if (!field->children.empty())
                runner.fields[field->at("name")] = runner.of(*field->children.front());
        double sum = parseNumber(table.at("intercept"), '.').value_or(nan);
        for (const auto& predictor : table.children) {
            const PmmlValue& value = runner.fields[predictor->at("name")];
            sum = value.gone
                      ? nan
                      : sum + value.number * parseNumber(predictor->at("coefficient"), '.').value_or(nan);
        }
        out.push_back(sum);
    }
    return out;
}

} // namespace oxgoad

// The user's own control code, in structured text, run at the samples of a task.

#include <cctype>

#include <fmt/format.h>

#include "base/text.h"
#include "control/st/lexer.h"
#include "control/st/program.h"
#include "parts/control/signal_part.h"

namespace hedgerow {

using namespace parts;

namespace {

constexpr std::size_t mostWatched = 64;

/// The text itself, or that of the file it names.
Result<std::string> sourceOf(const std::string& text, const ProjectFolder& folder) {
    if (!text.ends_with(".st") || text.find('\n') != std::string::npos) return text;
    constexpr std::size_t mostBytes = std::size_t{1} << 20;
    return folder.read(text, mostBytes);
}

/// "kp = 0.02, ki = 2*kp0" as constants.
st::Program::Constants constantsOf(const NetworkBuilder& b) {
    st::Program::Constants constants;
    const std::string list = b.text("values");
    for (std::size_t start = 0; start < list.size();) {
        const std::size_t end = std::min(list.find_first_of(",;", start), list.size());
        const std::string item = list.substr(start, end - start);
        start = end + 1;
        if (trimmed(item).empty()) continue;
        const std::size_t sign = item.find('=');
        std::string name(trimmed(item.substr(0, sign)));
        if (sign == std::string::npos || !isIdentifier(name)) {
            b.refuse("values", fmt::format("'{}' is no constant: write kp = 0.02", trimmed(item)));
            continue;
        }
        for (char& c : name) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
        constants.emplace_back(std::move(name), b.number("values", std::string_view(item).substr(sign + 1)));
    }
    return constants;
}

/// The names that sections of this word declare, in their order; as far as the code can be read while it is typed.
std::vector<std::string> declaredIn(const std::string& source, std::string_view section) {
    const auto tokens = st::tokensOf(source);
    std::vector<std::string> names;
    if (!tokens) return names;
    bool inside = false, naming = false;
    for (const st::Token& token : *tokens) {
        if (token.text == section)
            inside = naming = true;
        else if (token.text == "END_VAR")
            inside = false;
        else if (inside && naming && token.sort == st::TokenSort::name)
            names.push_back(lowerCase(token.text));
        else if (inside && (token.text == ":" || token.text == ";"))
            naming = token.text == ";";
    }
    return names;
}

class CodeStep final : public SampledStep {
public:
    /// @param watched  the variables behind the outputs
    /// @param stop  line at which it stops the run; 0 for none
    CodeStep(std::shared_ptr<const st::Program> program, double period, const std::vector<std::string>& watched,
             int stop)
        : machine_(program),
          inputs_(variablesOf(*program, st::Role::input)),
          outputs_(variablesOf(*program, st::Role::output)),
          period_(period) {
        for (const std::string& name : watched) watched_.push_back(program->main().find(name));
        machine_.stopAt(stop);
    }
    /// The initial values that the code gives them.
    void before(std::span<double> out) const override {
        for (std::size_t i = 0; i < outputs_.size(); ++i) out[i] = machine_.value(*outputs_[i]);
        for (std::size_t i = 0; i < watched_.size(); ++i)
            out[out.size() - watched_.size() + i] = machine_.value(*watched_[i]);
    }
    Status output(std::span<const double> in, std::span<double> out) override {
        for (std::size_t i = 0; i < inputs_.size(); ++i) machine_.set(*inputs_[i], in[i]);
        if (auto done = machine_.run(static_cast<double>(samples_++) * period_); !done) return done;
        for (std::size_t i = 0; i < outputs_.size(); ++i) out[i] = machine_.value(*outputs_[i]);
        for (std::size_t i = 0; i < watched_.size(); ++i)
            out[out.size() - watched_.size() + i] = machine_.value(*watched_[i]);
        for (std::size_t i = 0; i < outputs_.size(); ++i)
            if (!std::isfinite(out[i]))
                return Error{ErrorCode::numeric, fmt::format("output {} is {}", lowerCase(outputs_[i]->name), out[i])};
        return {};
    }
    void memory(Memory& all) override {
        machine_.memory(all);
        all.together([&](Memory& own) { own.elapsed(samples_); });
    }

private:
    st::Machine machine_;
    std::vector<const st::Variable*> inputs_, outputs_, watched_;
    double period_;
    std::int64_t samples_ = 0;
};

class Code final : public SignalPart {
public:
    explicit Code(int width) : SignalPart(description(width)) {}
    Status checkTexts(const std::function<std::string(std::string_view)>& text,
                      const ProjectFolder& folder) const override {
        auto source = sourceOf(text("code"), folder);
        if (source) return SignalPart::checkTexts(text, folder);
        Error error = source.error();
        error.field = "code";
        return error;
    }
    std::vector<std::string> pinNames(const std::function<std::string(std::string_view)>& text,
                                      const ProjectFolder& folder) const override {
        const auto source = sourceOf(text("code"), folder);
        if (!source) return {};
        std::vector<std::string> names = declaredIn(*source, "VAR_INPUT");
        names.resize(inputs().size());
        std::vector<std::string> results = declaredIn(*source, "VAR_OUTPUT");
        results.resize(outputs().size());
        names.insert(names.end(), results.begin(), results.end());
        return names;
    }
    void elaborate(NetworkBuilder& b) const override {
        const auto source = sourceOf(b.text("code"), b.folder());
        const st::Program::Constants constants = constantsOf(b);
        // The time between samples is not known yet; nothing that is looked at here depends on it.
        auto program = st::Program::compile(source ? *source : "", 1.0, constants);
        if (!program) {
            b.refuse("code", program.error().text());
            return addNothing(b);
        }
        for (const auto& [role, pins] :
             {std::pair(st::Role::input, &inputs()), std::pair(st::Role::output, &outputs())}) {
            const auto variables = variablesOf(**program, role);
            if (variables.size() > pins->size()) {
                b.refuse("code", fmt::format("the code has {} {}s, but the part has {} pins for them", variables.size(),
                                             role == st::Role::input ? "input" : "output", pins->size()));
                return addNothing(b);
            }
        }
        std::vector<std::string> watched, names;
        for (const st::Variable* variable : variablesOf(**program, st::Role::local)) {
            if (variable->type.isArray() || variable->type.isBlock() || watched.size() >= mostWatched) continue;
            watched.push_back(variable->name);
            names.push_back(lowerCase(variable->name));
        }
        b.addStep(
            [text = *source, constants, watched,
             stop = static_cast<int>(b.value("stop"))](double period) -> std::unique_ptr<SampledStep> {
                return std::make_unique<CodeStep>(*st::Program::compile(text, period, constants), period, watched,
                                                  stop);
            },
            inputs(), outputs(), names);
        offerOutputs(b);
    }

private:
    void addNothing(NetworkBuilder& b) const {
        b.addStep([](double) { return std::make_unique<Nothing>(); }, inputs(), outputs());
        offerOutputs(b);
    }
    class Nothing final : public SampledStep {
        Status output(std::span<const double>, std::span<double> out) override {
            std::fill(out.begin(), out.end(), 0.0);
            return {};
        }
    };
    static ParameterKind stopLine() {
        ParameterKind p = number("stop", "stops the run at line (0: never)", "", "0");
        p.least = 0, p.most = 1e6;
        return p;
    }
    static SignalKind description(int width) {
        SignalKind kind;
        kind.id = width == 4 ? "code" : "code-wide";
        kind.title = width == 4 ? "Control code" : "Control code, wide";
        kind.prefix = "CODE";
        kind.synonyms = width == 4 ? std::vector<std::string>{"structured text", "program", "script"}
                                   : std::vector<std::string>{"wide structured text"};
        kind.summary = "Your own control code in structured text";
        kind.help =
            "A program in structured text (IEC 61131-3), run once at each sample of its task. Its VAR_INPUT variables "
            "are "
            "the pins u1, u2, ... in their order, its VAR_OUTPUT variables y1, y2, ...; all its other plain variables "
            "can be watched as quantities of the part. Variables keep their values from sample to sample. SAMPLE_TIME "
            "is "
            "the time between samples in seconds. Constants may be given beside the code, with project parameters in "
            "them. A run can be made to stop where the code first comes to a line; the message then shows its "
            "variables at "
            "that sample. The code can reach nothing but its variables, and one that does not come to an end is "
            "stopped with "
            "its line named. Instead of the code the name of a file that ends in .st may stand here. Texts, structures "
            "and pointers are not supported.";
        for (int i = 1; i <= width; ++i) {
            kind.inputs.push_back(fmt::format("u{}?", i));
            kind.outputs.push_back(fmt::format("y{}", i));
        }
        kind.mark = "ST";
        kind.parameters = {
            textOf("code", "code",
                   "VAR_INPUT e : LREAL; END_VAR\nVAR_OUTPUT y : LREAL; END_VAR\nVAR sum : LREAL; END_VAR\n\nsum := "
                   "LIMIT(0.0, sum + 10.0 * SAMPLE_TIME * e, 1.0);\ny := LIMIT(0.0, 0.02 * e + sum, 1.0);\n"),
            expressionsOf("values", "constants", ""), stopLine()};
        kind.equations = "as written, once a sample";
        kind.source = "IEC 61131-3:2013";
        kind.needsTask = true;
        kind.anyThree = true;
        return kind;
    }
};

}  // namespace

void registerCode(PartLibrary& library) {
    for (const int width : {4, 8}) library.add(std::make_unique<Code>(width));
}

}  // namespace hedgerow

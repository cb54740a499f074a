#include "periodic/response/tone.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "network/injection.h"

namespace hedgerow::response {

namespace {

constexpr const char* listenerName = "~listens";

/// Two states that turn with w, driven by a form of the unknowns or not at all. Their unknowns are re and im.
class Turning final : public Element {
public:
    struct Places {
        int re, im;  ///< columns
        int stateRe, stateIm;
        int driver = -1;  ///< column that drives the real part
    };
    Turning(std::string part, const Places& at, double omega) : Element(std::move(part)), at_(at), omega_(omega) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(at_.re, at_.re, 1.0), s.state(at_.re, at_.stateRe, 1.0);
        s.unknown(at_.im, at_.im, 1.0), s.state(at_.im, at_.stateIm, 1.0);
        s.rate(at_.stateRe, at_.im, -omega_), s.rate(at_.stateIm, at_.re, omega_);
        if (at_.driver >= 0) s.rate(at_.stateRe, at_.driver, 1.0);
    }

private:
    Places at_;
    double omega_;
};

/// column = a form, or a source.
class Watching final : public Element {
public:
    Watching(std::string part, int column, Terms terms, int source)
        : Element(std::move(part)), column_(column), terms_(std::move(terms)), source_(source) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(column_, column_, 1.0);
        for (const auto& [column, share] : terms_) s.unknown(column_, column, -share);
        if (source_ >= 0) s.source(column_, source_, 1.0);
    }

private:
    int column_;
    Terms terms_;
    int source_;
};

/// column = Re x, in the place of the sine that was there.
class Oscillation final : public Element {
public:
    Oscillation(std::string part, int column, int re) : Element(std::move(part)), column_(column), re_(re) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(column_, column_, 1.0);
        s.unknown(column_, re_, -1.0);
    }

private:
    int column_, re_;
};

int addColumn(Network& network, const char* part) {
    network.branchParts.emplace_back(part);
    network.branchSorts.push_back(UnknownSort::signal);
    return network.nodeCount() + network.branchCount++;
}

int addState(Network& network, const char* part, std::string name) {
    network.states.push_back({.sort = StateSort::signal, .part = part, .name = std::move(name), .storage = 1.0});
    return static_cast<int>(network.states.size()) - 1;
}

Turning::Places addTurning(Network& network, const char* part, const std::string& number) {
    Turning::Places at{};
    at.re = addColumn(network, part), at.im = addColumn(network, part);
    at.stateRe = addState(network, part, "re" + number), at.stateIm = addState(network, part, "im" + number);
    return at;
}

template <class Some>
auto find(Some& snapshot, std::string_view part, std::string_view name) -> decltype(&snapshot.states[0]) {
    for (auto& state : snapshot.states)
        if (state.part == part && state.name == name) return &state;
    return nullptr;
}

void set(Snapshot& snapshot, const char* part, const std::string& name, double value) {
    if (Snapshot::State* const state = find(snapshot, part, name))
        state->value = value;
    else
        snapshot.states.push_back({.part = part, .name = name, .value = value, .storage = 1.0});
}

}  // namespace

Status addTone(Network& network, double omega, const std::vector<std::string>& outputs) {
    const auto sine = std::find_if(network.elements.begin(), network.elements.end(),
                                   [](const auto& element) { return element->part() == toneName; });
    const QuantityInfo* const tone = network.findQuantity(std::string(toneName) + ".y");
    if (sine == network.elements.end() || !tone || tone->a.size() != 1)
        return Error{ErrorCode::name, "there is no tone in this circuit"};
    const Turning::Places oscillator = addTurning(network, toneName, "");
    *sine = std::make_unique<Oscillation>(toneName, tone->a.front().first, oscillator.re);
    network.elements.push_back(std::make_unique<Turning>(toneName, oscillator, omega));
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        const QuantityInfo* const output = network.findQuantity(outputs[i]);
        if (!output) return Error{ErrorCode::name, fmt::format("the circuit has no quantity '{}'", outputs[i])};
        Terms terms;
        int source = -1;
        if (output->sort == QuantityInfo::Sort::linear) {
            terms = output->a;
        } else if (output->sort == QuantityInfo::Sort::signal) {
            source = network.sourceCount;
            network.heldSources.push_back({network.sourceCount++, output->index});
        } else {
            return Error{ErrorCode::name,
                         fmt::format("'{}' is no voltage, current or signal: its response has no meaning", outputs[i])};
        }
        const int watched = addColumn(network, listenerName);
        network.elements.push_back(std::make_unique<Watching>(listenerName, watched, std::move(terms), source));
        Turning::Places at = addTurning(network, listenerName, std::to_string(i));
        at.driver = watched;
        network.elements.push_back(std::make_unique<Turning>(listenerName, at, omega));
    }
    return {};
}

void setTone(Snapshot& snapshot, std::complex<double> value) {
    set(snapshot, toneName, "re", value.real()), set(snapshot, toneName, "im", value.imag());
}

void clearIntegrators(Snapshot& snapshot, std::size_t outputs) {
    for (std::size_t i = 0; i < outputs; ++i)
        set(snapshot, listenerName, "re" + std::to_string(i), 0),
            set(snapshot, listenerName, "im" + std::to_string(i), 0);
}

std::complex<double> integral(const Snapshot& snapshot, std::size_t output) {
    const auto* const re = find(snapshot, listenerName, "re" + std::to_string(output));
    const auto* const im = find(snapshot, listenerName, "im" + std::to_string(output));
    return re && im ? std::complex<double>(re->value, im->value) : std::complex<double>(std::nan(""), std::nan(""));
}

}  // namespace hedgerow::response

#include "studies/feature.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

#include "base/text.h"
#include "model/periods.h"
#include "model/values.h"
#include "runs/readings.h"
#include "runs/registry.h"
#include "traces/spectrum.h"

namespace hedgerow {

namespace {

constexpr std::string_view measures[] = {"mean", "min",  "max",   "peak", "pp",      "rms",
                                         "integral", "loss", "value", "thd",  "harmonic"};
constexpr int mostOrder = 50;

Error fault(std::string_view text, std::size_t at, std::string message) {
    Error error{ErrorCode::syntax, std::move(message)};
    error.position = static_cast<int>(std::min(at, text.size()));
    return error;
}

bool needsBase(std::string_view measure) { return measure == "thd" || measure == "harmonic"; }

}  // namespace

Result<Feature> readFeature(std::string_view text) {
    Feature feature;
    const std::size_t of = text.find(" of ");
    if (of == std::string_view::npos) return fault(text, 0, "write: pp of L1.i within 1 %");
    std::string_view measure = trimmed(text.substr(0, of));
    if (measure.starts_with("harmonic ")) {
        const auto order = numberIn(trimmed(measure.substr(9)));
        if (!order || *order != std::floor(*order) || *order < 1 || *order > mostOrder)
            return fault(text, 0, "harmonics are counted from 1 to 50: harmonic 5 of V1.i base 50 within 2 %");
        feature.order = static_cast<int>(*order);
        measure = "harmonic";
    }
    if (std::find(std::begin(measures), std::end(measures), measure) == std::end(measures))
        return fault(text, 0,
                     fmt::format("'{}' is no measure: mean, min, max, peak, pp, rms, integral, loss, value, thd, or "
                                 "harmonic and its order",
                                 measure));
    feature.measure = measure;
    std::string_view rest = text.substr(of + 4);
    const std::size_t within = rest.rfind(" within ");
    if (within == std::string_view::npos || trimmed(rest.substr(within + 8)).empty())
        return fault(text, text.size(), "the accuracy wanted is missing: within 1 %, or within 20m");
    feature.accuracy = trimmed(rest.substr(within + 8));
    rest = rest.substr(0, within);
    const auto cut = [&rest](std::string_view word, std::string& into) {
        const std::size_t at = rest.rfind(word);
        if (at == std::string_view::npos) return false;
        into = trimmed(rest.substr(at + word.size()));
        rest = rest.substr(0, at);
        return true;
    };
    cut(" base ", feature.base);
    if (!cut(" over last ", feature.last)) {
        if (!cut(" at ", feature.at)) {
            cut(" to ", feature.to);
            cut(" from ", feature.from);
        }
    }
    feature.quantity = trimmed(rest);
    if (feature.quantity.empty()) return fault(text, of + 4, "name the quantity: pp of L1.i within 1 %");
    if (feature.measure == "value" && feature.at.empty())
        return fault(text, text.size(), "say when: value of out.v at 2m within 1 %");
    if (feature.measure != "value" && !feature.at.empty())
        return fault(text, 0, "only a value is read at an instant: value of out.v at 2m");
    if (needsBase(feature.measure) && feature.base.empty())
        return fault(text, text.size(), "the fundamental is missing: thd of V1.i base 50 within 5 %");
    return feature;
}

std::string featureText(const Feature& feature) {
    std::string text = feature.measure;
    if (feature.measure == "harmonic") text += fmt::format(" {}", feature.order);
    text += " of " + feature.quantity;
    if (!feature.last.empty()) text += " over last " + feature.last;
    if (!feature.from.empty()) text += " from " + feature.from;
    if (!feature.to.empty()) text += " to " + feature.to;
    if (!feature.at.empty()) text += " at " + feature.at;
    if (!feature.base.empty()) text += " base " + feature.base;
    return text + " within " + feature.accuracy;
}

Result<FeatureReader> FeatureReader::make(const Feature& feature, const Project& project) {
    FeatureReader reader;
    reader.feature_ = feature;
    const ParameterTable parameters(project.parameters);
    const auto about = [&](Error error) {
        error.message = fmt::format("feature \"{}\": {}", featureText(feature), error.message);
        return error;
    };
    for (const auto& [text, into] : {std::pair{&feature.from, &reader.from_}, std::pair{&feature.to, &reader.to_},
                                     std::pair{&feature.last, &reader.last_}, std::pair{&feature.at, &reader.at_}}) {
        if (text->empty()) continue;
        const auto time = evaluateTime(*text, project, partLibrary().catalogue(), parameters.lookup());
        if (!time) return about(time.error());
        if (!(*time >= 0) || *time > longestRunSeconds)
            return about({ErrorCode::range, fmt::format("{} lies outside of any run", *text)});
        *into = *time;
    }
    if (!feature.base.empty()) {
        const auto base = evaluateField(feature.base, *findUnit("Hz"), parameters.lookup());
        if (!base) return about(base.error());
        if (!(*base > 0)) return about({ErrorCode::range, "the fundamental must be above 0"});
        reader.base_ = *base;
    }
    std::string_view accuracy = trimmed(feature.accuracy);
    reader.relative_ = accuracy.ends_with('%');
    if (reader.relative_) accuracy = trimmed(accuracy.substr(0, accuracy.size() - 1));
    const auto value = evaluateField(std::string(accuracy), Unit{}, parameters.lookup());
    if (!value) return about(value.error());
    if (!(*value > 0)) return about({ErrorCode::range, "the accuracy must be above 0"});
    reader.accuracy_ = reader.relative_ ? *value / 100 : *value;
    return reader;
}

std::string FeatureReader::unitIn(const RunRecord& run) const {
    if (feature_.measure == "thd") return "";
    const auto trace = readTrace(run, feature_.measure == "loss" ? feature_.quantity + ".p" : feature_.quantity);
    const std::string unit = trace ? (*trace)->unit() : "";
    return feature_.measure == "integral" ? unit + "s" : unit;
}

double FeatureReader::allowed(double reference) const {
    return relative_ ? accuracy_ * std::abs(reference) : accuracy_;
}

Result<double> FeatureReader::valueIn(const RunRecord& run) const {
    const auto about = [&](std::string message) {
        return Error{ErrorCode::range, fmt::format("feature \"{}\": {}", featureText(feature_), message)};
    };
    const auto trace = readTrace(run, feature_.measure == "loss" ? feature_.quantity + ".p" : feature_.quantity);
    if (!trace) return about(trace.error().message);
    const Tick end = run.reached();
    Tick from = from_ >= 0 ? toTicks(from_) : 0;
    const Tick to = to_ >= 0 ? toTicks(to_) : end;
    if (last_ >= 0) from = std::max<Tick>(0, to - toTicks(last_));
    if (feature_.measure == "value") {
        const auto value = (*trace)->at(toTicks(at_));
        if (!value) return about("the run has no value at that instant");
        return *value;
    }
    if (from >= to || to > end + 1) return about("the run does not reach its window");
    if (needsBase(feature_.measure)) {
        const auto all = harmonics(**trace, from, to, base_, std::max(mostOrder, feature_.order));
        if (!all) return about("not one whole period of the fundamental lies in its window");
        const double value = feature_.measure == "thd" ? all->distortion(mostOrder) : all->peak(feature_.order);
        if (!std::isfinite(value)) return about("it is no number there");
        return value;
    }
    const auto basic = (*trace)->measure(from, to);
    if (!basic) return about("nothing was recorded in its window");
    const std::string& measure = feature_.measure;
    const double value = measure == "min"        ? basic->min
                         : measure == "max"      ? basic->max
                         : measure == "peak"     ? std::max(std::abs(basic->min), std::abs(basic->max))
                         : measure == "pp"       ? basic->peakToPeak()
                         : measure == "rms"      ? basic->rms
                         : measure == "integral" ? basic->mean * basic->seconds
                                                 : basic->mean;
    if (!std::isfinite(value)) return about("it is no number there");
    return value;
}

}  // namespace hedgerow

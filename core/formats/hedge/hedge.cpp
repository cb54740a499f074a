#include "formats/hedge/hedge.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <set>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "formats/file.h"
#include "formats/hedge/json_place.h"
#include "model/modules.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;

constexpr int farthest = 1 << 24;  ///< of a coordinate
constexpr std::size_t longestText = 1 << 16;

/// Reads members one by one, remembers where it is, and keeps the first error. After an error everything reads as
/// default, so that the callers need no checks of their own.
class Reader {
public:
    explicit Reader(std::string_view text) : text_(text) {}

    bool failed() const { return failed_; }
    Error error() const { return error_; }

    void fail(std::string message) {
        if (failed_) return;
        failed_ = true;
        const TextPlace place = placeOfValue(text_, path_);
        error_ = {ErrorCode::file, std::move(message)};
        error_.line = place.line;
        error_.column = place.column;
    }

    /// Calls `read` with each known member present; the others go to `extra`.
    template <class Read>
    void object(const Json& json, std::string& extra, Read read) {
        if (!json.is_object()) return fail("an object in braces was expected here");
        Json unknown = Json::object();
        for (const auto& [key, value] : json.items()) {
            path_.emplace_back(key);
            if (!read(key, value)) unknown[key] = value;
            if (failed_) return;
            path_.pop_back();
        }
        if (!unknown.empty()) extra = unknown.dump();
    }

    template <class Item, class Read>
    std::vector<Item> list(const Json& json, Read read) {
        std::vector<Item> items;
        if (!json.is_array()) return fail("a list in brackets was expected here"), items;
        for (std::size_t i = 0; i < json.size() && !failed_; ++i) {
            path_.emplace_back(i);
            items.push_back(read(json[i]));
            if (!failed_) path_.pop_back();
        }
        return items;
    }

    std::string text(const Json& json) {
        if (!json.is_string()) return fail("a text in quotes was expected here"), "";
        auto value = json.get<std::string>();
        if (value.size() > longestText) fail(fmt::format("this text is longer than {} characters", longestText));
        return value;
    }
    int whole(const Json& json, int least, int most) {
        if (!json.is_number()) return fail("a whole number was expected here"), 0;
        const double value = json.get<double>();
        if (value != std::floor(value) || value < least || value > most)
            return fail(fmt::format("a whole number from {} to {} was expected here", least, most)), 0;
        return static_cast<int>(value);
    }
    std::vector<std::string> texts(const Json& json) {
        return list<std::string>(json, [this](const Json& item) { return text(item); });
    }
    bool flag(const Json& json) {
        if (!json.is_boolean()) return fail("true or false was expected here"), false;
        return json.get<bool>();
    }
    Point point(const Json& json) {
        if (!json.is_array() || json.size() != 2) return fail("a point [x, y] was expected here"), Point{};
        path_.emplace_back(std::size_t{0});
        const int x = whole(json[0], -farthest, farthest);
        if (!failed_) path_.back() = std::size_t{1};
        const int y = whole(json[1], -farthest, farthest);
        if (failed_) return {};
        path_.pop_back();
        return snapped(x, y);
    }

private:
    std::string_view text_;
    JsonPath path_;
    bool failed_ = false;
    Error error_;
};

Part readPart(Reader& in, const Json& json) {
    Part part;
    in.object(json, part.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            part.name = in.text(value);
        else if (key == "kind")
            part.kind = in.text(value);
        else if (key == "at")
            part.at = in.point(value);
        else if (key == "turn")
            part.turn = in.whole(value, 0, 3);
        else if (key == "flip")
            part.flip = in.flag(value);
        else if (key == "rung")
            part.rung = in.whole(value, 0, 4);
        else if (key == "values") {
            std::string unused;
            in.object(value, unused, [&](const std::string& name, const Json& typed) {
                part.values.set(name, in.text(typed));
                return true;
            });
        } else
            return false;
        return true;
    });
    if (part.name.empty()) in.fail("this part has no name");
    if (part.kind.empty()) in.fail("this part has no kind");
    return part;
}

Wire readWire(Reader& in, const Json& json) {
    Wire wire;
    in.object(json, wire.extra, [&](const std::string& key, const Json& value) {
        if (key == "points")
            wire.points = in.list<Point>(value, [&](const Json& item) { return in.point(item); });
        else if (key == "bent")
            wire.bent = in.flag(value);
        else
            return false;
        return true;
    });
    if (wire.points.size() < 2) in.fail("a wire needs at least two points");
    for (std::size_t i = 0; i + 1 < wire.points.size(); ++i)
        if ((wire.points[i].x != wire.points[i + 1].x) == (wire.points[i].y != wire.points[i + 1].y))
            in.fail("the points of a wire must follow each other at right angles");
    return wire;
}

Label readLabel(Reader& in, const Json& json) {
    Label label;
    in.object(json, label.extra, [&](const std::string& key, const Json& value) {
        if (key == "net")
            label.net = in.text(value);
        else if (key == "at")
            label.at = in.point(value);
        else
            return false;
        return true;
    });
    if (label.net.empty()) in.fail("this label names no net");
    return label;
}

Parameter readParameter(Reader& in, const Json& json) {
    Parameter parameter;
    in.object(json, parameter.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            parameter.name = in.text(value);
        else if (key == "value")
            parameter.value = in.text(value);
        else if (key == "unit")
            parameter.unit = in.text(value);
        else if (key == "note")
            parameter.note = in.text(value);
        else if (key == "least")
            parameter.least = in.text(value);
        else if (key == "most")
            parameter.most = in.text(value);
        else
            return false;
        return true;
    });
    if (parameter.name.empty()) in.fail("this parameter has no name");
    return parameter;
}

Sheet readSheet(Reader& in, const Json& json) {
    Sheet sheet;
    in.object(json, sheet.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            sheet.name = in.text(value);
        else if (key == "parts")
            sheet.parts = in.list<Part>(value, [&](const Json& item) { return readPart(in, item); });
        else if (key == "wires")
            sheet.wires = in.list<Wire>(value, [&](const Json& item) { return readWire(in, item); });
        else if (key == "labels")
            sheet.labels = in.list<Label>(value, [&](const Json& item) { return readLabel(in, item); });
        else if (key == "parameters")
            sheet.parameters = in.list<Parameter>(value, [&](const Json& item) { return readParameter(in, item); });
        else if (key == "note")
            sheet.note = in.text(value);
        else if (key == "library")
            sheet.origin = in.text(value);
        else
            return false;
        return true;
    });
    return sheet;
}

/// Modules are found by their names.
void checkNames(Reader& in, const std::vector<Sheet>& sheets) {
    std::set<std::string> names;
    for (const Sheet& sheet : sheets)
        if (!names.insert(sheet.name).second) in.fail(fmt::format("two sheets are called '{}'", sheet.name));
}

SceneEvent readEvent(Reader& in, const Json& json) {
    SceneEvent event;
    in.object(json, event.extra, [&](const std::string& key, const Json& value) {
        std::string* const text = key == "at"      ? &event.at
                                  : key == "wave"  ? &event.wave
                                  : key == "angle" ? &event.angle
                                  : key == "set"   ? &event.target
                                  : key == "to"    ? &event.value
                                  : key == "over"  ? &event.duration
                                                   : nullptr;
        if (text) *text = in.text(value);
        return text != nullptr;
    });
    return event;
}

Scene readScene(Reader& in, const Json& json) {
    Scene scene;
    in.object(json, scene.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            scene.name = in.text(value);
        else if (key == "events")
            scene.events = in.list<SceneEvent>(value, [&](const Json& item) { return readEvent(in, item); });
        else
            return false;
        return true;
    });
    return scene;
}

FixedStep readFixedStep(Reader& in, const Json& json) {
    FixedStep fixed;
    in.object(json, fixed.extra, [&](const std::string& key, const Json& value) {
        if (key == "step")
            fixed.step = in.text(value);
        else if (key == "method")
            fixed.method = in.text(value);
        else if (key == "interpolate")
            fixed.interpolate = in.flag(value);
        else if (key == "heat")
            fixed.heat = in.text(value);
        else if (key == "control")
            fixed.control = in.text(value);
        else
            return false;
        return true;
    });
    return fixed;
}

struct SpanField {
    std::string_view key;
    std::string Span::*text;
};
constexpr SpanField spanFields[] = {
    {"until", &Span::until},   {"since", &Span::since},         {"when", &Span::when}, {"every", &Span::every},
    {"for", &Span::lasting},   {"rungs", &Span::rungs},         {"engine", &Span::engine},
    {"tolerance", &Span::tolerance}, {"step", &Span::step}, {"keep", &Span::keep}};

Span readSpan(Reader& in, const Json& json) {
    Span span;
    in.object(json, span.extra, [&](const std::string& key, const Json& value) {
        if (key == "settle") {
            span.settle = in.flag(value);
            return true;
        }
        for (const SpanField& field : spanFields)
            if (field.key == key) {
                span.*field.text = in.text(value);
                return true;
            }
        return false;
    });
    return span;
}

Plan readPlan(Reader& in, const Json& json) {
    Plan plan;
    in.object(json, plan.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            plan.name = in.text(value);
        else if (key == "end")
            plan.end = in.text(value);
        else if (key == "engine")
            plan.engine = in.text(value);
        else if (key == "tolerance")
            plan.tolerance = in.text(value);
        else if (key == "start")
            plan.start = in.text(value);
        else if (key == "even out")
            plan.evenOut = in.flag(value);
        else if (key == "settled periods")
            plan.settledPeriods = in.text(value);
        else if (key == "period")
            plan.period = in.text(value);
        else if (key == "largest jump")
            plan.largestJump = in.text(value);
        else if (key == "spans")
            plan.spans = in.list<Span>(value, [&](const Json& item) { return readSpan(in, item); });
        else if (key == "fixed")
            plan.fixed = readFixedStep(in, value);
        else if (key == "tolerances") {
            std::string unused;
            in.object(value, unused, [&](const std::string& name, const Json& item) {
                plan.tolerances.emplace_back(name, in.text(item));
                return true;
            });
        } else
            return false;
        return true;
    });
    return plan;
}

constexpr std::array<std::string_view, 3> laneKinds = {"time", "spectrum", "x-y"};

SpectrumLook readSpectrumLook(Reader& in, const Json& json) {
    SpectrumLook look;
    in.object(json, look.extra, [&](const std::string& key, const Json& value) {
        if (key == "window")
            look.window = in.text(value);
        else if (key == "fundamental")
            look.fundamental = in.text(value);
        else if (key == "highest")
            look.highest = in.text(value);
        else if (key == "decibel")
            look.decibel = in.flag(value);
        else if (key == "limit")
            look.limit = in.text(value);
        else
            return false;
        return true;
    });
    return look;
}

Lane readLane(Reader& in, const Json& json) {
    Lane lane;
    in.object(json, lane.extra, [&](const std::string& key, const Json& value) {
        if (key == "quantities")
            lane.quantities = in.list<std::string>(value, [&](const Json& item) { return in.text(item); });
        else if (key == "height")
            lane.height = in.whole(value, 24, 2000);
        else if (key == "folded")
            lane.folded = in.flag(value);
        else if (key == "log")
            lane.log = in.flag(value);
        else if (key == "low")
            lane.low = in.text(value);
        else if (key == "high")
            lane.high = in.text(value);
        else if (key == "kind") {
            const auto found = std::find(laneKinds.begin(), laneKinds.end(), in.text(value));
            if (found == laneKinds.end())
                in.fail("a lane is of kind time, spectrum or x-y");
            else
                lane.kind = static_cast<LaneKind>(found - laneKinds.begin());
        } else if (key == "spectrum")
            lane.spectrum = readSpectrumLook(in, value);
        else
            return false;
        return true;
    });
    return lane;
}

LaneSet readLaneSet(Reader& in, const Json& json) {
    LaneSet set;
    in.object(json, set.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            set.name = in.text(value);
        else if (key == "plan")
            set.plan = in.text(value);
        else if (key == "lanes")
            set.lanes = in.list<Lane>(value, [&](const Json& item) { return readLane(in, item); });
        else
            return false;
        return true;
    });
    if (set.name.empty()) in.fail("a set of lanes has no name");
    return set;
}

ParameterStudy readParameterStudy(Reader& in, const Json& json) {
    ParameterStudy study;
    in.object(json, study.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            study.name = in.text(value);
        else if (key == "scene")
            study.scene = in.text(value);
        else if (key == "plan")
            study.plan = in.text(value);
        else if (key == "varied")
            study.varied = in.texts(value);
        else if (key == "measured")
            study.measured = in.texts(value);
        else if (key == "runs")
            study.runs = in.text(value);
        else if (key == "seed")
            study.seed = in.text(value);
        else if (key == "keep")
            study.keep = in.text(value);
        else if (key == "settle")
            study.settle = in.flag(value);
        else
            return false;
        return true;
    });
    return study;
}

TradeStudy readStudy(Reader& in, const Json& json) {
    TradeStudy study;
    in.object(json, study.extra, [&](const std::string& key, const Json& value) {
        if (key == "name")
            study.name = in.text(value);
        else if (key == "scene")
            study.scene = in.text(value);
        else if (key == "plan")
            study.plan = in.text(value);
        else if (key == "features")
            study.features = in.texts(value);
        else if (key == "alternatives")
            study.alternatives = in.texts(value);
        else
            return false;
        return true;
    });
    return study;
}

MeasuredPeriods readMeasuredPeriods(Reader& in, const Json& json) {
    MeasuredPeriods measured;
    in.object(json, measured.extra, [&](const std::string& key, const Json& value) {
        if (key == "quantity")
            measured.quantity = in.text(value);
        else if (key == "periods")
            measured.count = in.whole(value, 1, 1'000'000);
        else
            return false;
        return true;
    });
    return measured;
}

void giveIds(Project& project) {
    for (Sheet& sheet : project.sheets) {
        for (Part& part : sheet.parts) part.id = project.newId();
        for (Wire& wire : sheet.wires) wire.id = project.newId();
        for (Label& label : sheet.labels) label.id = project.newId();
    }
}

Result<Json> parseJson(std::string_view text) {
    if (const std::string fault = beyondBounds(text); !fault.empty()) {
        Error error{ErrorCode::file, "the text " + fault};
        error.line = error.column = 1;
        return error;
    }
    try {
        return Json::parse(text);
    } catch (const Json::parse_error& exception) {
        const TextPlace place = placeOfByte(text, exception.byte == 0 ? 0 : exception.byte - 1);
        std::string message = exception.what();
        const std::size_t detail = message.find(": ", message.find("column"));
        message = detail == std::string::npos ? "this is not valid JSON"
                                              : "this is not valid JSON: " + message.substr(detail + 2);
        return Error{ErrorCode::file, message, {}, {}, {}, place.line, place.column};
    } catch (const Json::exception& exception) {
        return Error{ErrorCode::file, fmt::format("this is not valid JSON: {}", exception.what()), {}, {}, {}, 1, 1};
    }
}

/// Members with the unknown ones of `extra` behind them.
Json withExtra(Json json, const std::string& extra) {
    if (extra.empty()) return json;
    const Json unknown = Json::parse(extra, nullptr, false);
    if (unknown.is_object())
        for (const auto& [key, value] : unknown.items()) json[key] = value;
    return json;
}

Json toJson(Point point) { return Json::array({point.x, point.y}); }

Json toJson(const Part& part) {
    Json json = {{"name", part.name}, {"kind", part.kind}, {"at", toJson(part.at)}};
    if (part.turn != 0) json["turn"] = part.turn;
    if (part.flip) json["flip"] = true;
    json["rung"] = part.rung;
    if (!part.values.all().empty()) {
        json["values"] = Json::object();
        for (const auto& [key, text] : part.values.all()) json["values"][key] = text;
    }
    return withExtra(json, part.extra);
}

Json toJson(const Wire& wire) {
    Json points = Json::array();
    for (const Point point : wire.points) points.push_back(toJson(point));
    Json json = {{"points", points}};
    if (wire.bent) json["bent"] = true;
    return withExtra(json, wire.extra);
}

Json toJson(const Label& label) { return withExtra({{"net", label.net}, {"at", toJson(label.at)}}, label.extra); }
Json toJson(const Parameter& p) {
    Json json = {{"name", p.name}, {"value", p.value}, {"unit", p.unit}};
    if (!p.note.empty()) json["note"] = p.note;
    if (!p.least.empty()) json["least"] = p.least;
    if (!p.most.empty()) json["most"] = p.most;
    return withExtra(json, p.extra);
}
Json toJson(const SceneEvent& event) {
    Json json = {{"at", event.at}};
    if (!event.wave.empty()) json["wave"] = event.wave, json["angle"] = event.angle;
    json["set"] = event.target;
    json["to"] = event.value;
    if (!event.duration.empty()) json["over"] = event.duration;
    return withExtra(std::move(json), event.extra);
}
Json toJson(const Scene& scene) {
    Json json = {{"name", scene.name}};
    for (const SceneEvent& event : scene.events) json["events"].push_back(toJson(event));
    return withExtra(std::move(json), scene.extra);
}
Json toJson(const FixedStep& fixed) {
    const FixedStep usual;
    Json json = {{"step", fixed.step}, {"method", fixed.method}};
    if (!fixed.interpolate) json["interpolate"] = false;
    if (fixed.heat != usual.heat) json["heat"] = fixed.heat;
    if (fixed.control != usual.control) json["control"] = fixed.control;
    return withExtra(std::move(json), fixed.extra);
}

Json toJson(const Span& span) {
    Json json = Json::object();
    if (span.settle) json["settle"] = true;
    for (const SpanField& field : spanFields)
        if (const std::string& text = span.*field.text; !text.empty()) json[std::string(field.key)] = text;
    return withExtra(std::move(json), span.extra);
}

Json toJson(const Plan& plan) {
    Json json = {{"name", plan.name}, {"end", plan.end}, {"engine", plan.engine}, {"tolerance", plan.tolerance}};
    for (const auto& [name, text] : plan.tolerances) json["tolerances"][name] = text;
    if (plan.start != Plan().start) json["start"] = plan.start;
    if (plan.evenOut) json["even out"] = true;
    if (plan.settledPeriods != Plan().settledPeriods) json["settled periods"] = plan.settledPeriods;
    if (!plan.period.empty()) json["period"] = plan.period;
    if (plan.largestJump != Plan().largestJump) json["largest jump"] = plan.largestJump;
    for (const Span& span : plan.spans) json["spans"].push_back(toJson(span));
    if (plan.fixed != FixedStep()) json["fixed"] = toJson(plan.fixed);
    return withExtra(std::move(json), plan.extra);
}
Json toJson(const SpectrumLook& look) {
    Json json = {{"window", look.window}};
    if (!look.fundamental.empty()) json["fundamental"] = look.fundamental;
    if (!look.highest.empty()) json["highest"] = look.highest;
    if (look.decibel) json["decibel"] = true;
    if (!look.limit.empty()) json["limit"] = look.limit;
    return withExtra(std::move(json), look.extra);
}

Json toJson(const Lane& lane) {
    Json json = {{"quantities", lane.quantities}, {"height", lane.height}};
    if (lane.folded) json["folded"] = true;
    if (lane.log) json["log"] = true;
    if (!lane.low.empty()) json["low"] = lane.low;
    if (!lane.high.empty()) json["high"] = lane.high;
    if (lane.kind != LaneKind::time) json["kind"] = laneKinds[static_cast<std::size_t>(lane.kind)];
    if (lane.kind == LaneKind::spectrum) json["spectrum"] = toJson(lane.spectrum);
    return withExtra(std::move(json), lane.extra);
}

Json toJson(const LaneSet& set) {
    Json json = {{"name", set.name}, {"lanes", Json::array()}};
    for (const Lane& lane : set.lanes) json["lanes"].push_back(toJson(lane));
    if (!set.plan.empty()) json["plan"] = set.plan;
    return withExtra(std::move(json), set.extra);
}

Json toJson(const TradeStudy& study) {
    Json json = {{"name", study.name}};
    if (!study.scene.empty()) json["scene"] = study.scene;
    if (!study.plan.empty()) json["plan"] = study.plan;
    json["features"] = study.features;
    json["alternatives"] = study.alternatives;
    return withExtra(std::move(json), study.extra);
}

Json toJson(const ParameterStudy& study) {
    Json json = {{"name", study.name}};
    if (!study.scene.empty()) json["scene"] = study.scene;
    if (!study.plan.empty()) json["plan"] = study.plan;
    json["varied"] = study.varied;
    json["measured"] = study.measured;
    json["runs"] = study.runs;
    if (study.seed != "1") json["seed"] = study.seed;
    if (!study.keep.empty()) json["keep"] = study.keep;
    if (study.settle) json["settle"] = true;
    return withExtra(std::move(json), study.extra);
}

Json toJson(const MeasuredPeriods& measured) {
    return withExtra({{"quantity", measured.quantity}, {"periods", measured.count}}, measured.extra);
}

std::string dump(const Json& json) { return json.dump(-1, ' ', false, Json::error_handler_t::replace); }

/// "name": [ one item a line ]
template <class Item>
std::string lines(std::string_view name, const std::vector<Item>& items, const std::string& indent) {
    if (items.empty()) return fmt::format("{}\"{}\": []", indent, name);
    std::string text = fmt::format("{}\"{}\": [\n", indent, name);
    for (std::size_t i = 0; i < items.size(); ++i)
        text += indent + "  " + dump(toJson(items[i])) + (i + 1 < items.size() ? ",\n" : "\n");
    return text + indent + "]";
}

/// The unknown members as lines that follow others.
std::string extraLines(const std::string& extra, const std::string& indent) {
    std::string text;
    if (extra.empty()) return text;
    const Json unknown = Json::parse(extra, nullptr, false);
    if (unknown.is_object())
        for (const auto& [key, value] : unknown.items()) text += ",\n" + indent + dump(Json(key)) + ": " + dump(value);
    return text;
}

std::string sheetText(const Sheet& sheet, const std::string& indent) {
    const std::string inner = indent + "  ";
    std::string head = inner + "\"name\": " + dump(Json(sheet.name)) + ",\n";
    if (!sheet.note.empty()) head += inner + "\"note\": " + dump(Json(sheet.note)) + ",\n";
    if (!sheet.origin.empty()) head += inner + "\"library\": " + dump(Json(sheet.origin)) + ",\n";
    if (!sheet.parameters.empty()) head += lines("parameters", sheet.parameters, inner) + ",\n";
    return indent + "{\n" + head + lines("parts", sheet.parts, inner) + ",\n" + lines("wires", sheet.wires, inner) +
           ",\n" + lines("labels", sheet.labels, inner) + extraLines(sheet.extra, inner) + "\n" + indent + "}";
}

}  // namespace

Result<LoadedProject> readHedge(std::string_view text) {
    auto parsed = parseJson(text);
    if (!parsed) return parsed.error();
    LoadedProject loaded;
    Project& project = loaded.project;
    Reader in(text);
    int version = 0;
    in.object(*parsed, project.extra, [&](const std::string& key, const Json& value) {
        if (key == "hedgerow")
            version = in.whole(value, 1, 1'000'000);
        else if (key == "title")
            project.title = in.text(value);
        else if (key == "description")
            project.description = in.text(value);
        else if (key == "parameters")
            project.parameters = in.list<Parameter>(value, [&](const Json& item) { return readParameter(in, item); });
        else if (key == "sheets")
            project.sheets = in.list<Sheet>(value, [&](const Json& item) { return readSheet(in, item); });
        else if (key == "kept")
            project.kept = in.list<Part>(value, [&](const Json& item) { return readPart(in, item); });
        else if (key == "scenes")
            project.scenes = in.list<Scene>(value, [&](const Json& item) { return readScene(in, item); });
        else if (key == "plans")
            project.plans = in.list<Plan>(value, [&](const Json& item) { return readPlan(in, item); });
        else if (key == "lanes")
            project.lanes = in.list<Lane>(value, [&](const Json& item) { return readLane(in, item); });
        else if (key == "laneSets")
            project.laneSets = in.list<LaneSet>(value, [&](const Json& item) { return readLaneSet(in, item); });
        else if (key == "studies")
            project.studies = in.list<TradeStudy>(value, [&](const Json& item) { return readStudy(in, item); });
        else if (key == "parameterStudies")
            project.parameterStudies =
                in.list<ParameterStudy>(value, [&](const Json& item) { return readParameterStudy(in, item); });
        else if (key == "measured")
            project.measured = readMeasuredPeriods(in, value);
        else
            return false;
        return true;
    });
    if (version == 0) in.fail("this is not a Hedgerow project: the member \"hedgerow\" with its version is missing");
    if (project.sheets.empty()) in.fail("a project needs at least one sheet");
    checkNames(in, project.sheets);
    if (in.failed()) return in.error();
    if (project.scenes.empty()) project.scenes.emplace_back();
    if (project.plans.empty()) project.plans.emplace_back();
    giveIds(project);
    if (version > hedgeVersion) {
        loaded.readOnly = true;
        loaded.notice = fmt::format(
            "This project was written by a newer version (format {}, this one writes {}). It can be looked at and run, "
            "but not saved over.",
            version, hedgeVersion);
    }
    return loaded;
}

Result<LoadedProject> loadHedge(const std::filesystem::path& path) {
    auto text = readFile(path);
    if (!text) return text.error();
    auto loaded = readHedge(*text);
    if (!loaded) {
        Error error = loaded.error();
        error.message = path.filename().string() + ": " + error.message;
        return error;
    }
    loaded->project.folder.moveTo(std::filesystem::absolute(path).parent_path());
    return loaded;
}

std::string writeHedge(const Project& project) {
    const std::string indent = "  ";
    std::string text = "{\n";
    text += fmt::format("  \"hedgerow\": {},\n", hedgeVersion);
    text += "  \"title\": " + dump(Json(project.title)) + ",\n  \"description\": " + dump(Json(project.description)) +
            ",\n";
    text += lines("parameters", project.parameters, indent) + ",\n  \"sheets\": [\n";
    for (std::size_t i = 0; i < project.sheets.size(); ++i)
        text += sheetText(project.sheets[i], "    ") + (i + 1 < project.sheets.size() ? ",\n" : "\n");
    text += "  ],\n";
    if (!project.kept.empty()) text += lines("kept", project.kept, indent) + ",\n";
    text += lines("scenes", project.scenes, indent) + ",\n" + lines("plans", project.plans, indent) + ",\n" +
            lines("lanes", project.lanes, indent);
    if (!project.laneSets.empty()) text += ",\n" + lines("laneSets", project.laneSets, indent);
    if (!project.studies.empty()) text += ",\n" + lines("studies", project.studies, indent);
    if (!project.parameterStudies.empty())
        text += ",\n" + lines("parameterStudies", project.parameterStudies, indent);
    if (!project.measured.quantity.empty()) text += ",\n  \"measured\": " + dump(toJson(project.measured));
    return text + extraLines(project.extra, indent) + "\n}\n";
}

Status saveHedge(const Project& project, const std::filesystem::path& path) {
    return writeFileAtomically(path, writeHedge(project));
}

std::string writeClip(const Sheet& clip, const std::vector<Sheet>& modules) {
    std::string text = "{\n  \"sheets\": [\n" + sheetText(clip, "    ");
    for (const Sheet* sheet : modulesUnder(clip, modules))
        if (sheet != &clip) text += ",\n" + sheetText(*sheet, "    ");
    return text + "\n  ]\n}\n";
}

Result<std::vector<Sheet>> readClip(std::string_view text) {
    auto parsed = parseJson(text);
    if (!parsed) return parsed.error();
    Reader in(text);
    std::vector<Sheet> sheets;
    std::string unused;
    in.object(*parsed, unused, [&](const std::string& key, const Json& value) {
        if (key != "sheets") return false;
        sheets = in.list<Sheet>(value, [&](const Json& item) { return readSheet(in, item); });
        return true;
    });
    if (sheets.empty()) in.fail("this is no part of a circuit");
    if (in.failed()) return in.error();
    return sheets;
}

}  // namespace hedgerow

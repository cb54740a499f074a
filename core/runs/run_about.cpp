#include "runs/run_about.h"

#include <nlohmann/json.hpp>

#include "formats/hedge/hedge.h"
#include "formats/hedge/json_place.h"

namespace hedgerow {

namespace {

using Json = nlohmann::ordered_json;

Json toJson(const Terms& terms) {
    Json json = Json::array();
    for (const auto& [column, factor] : terms) json.push_back({column, factor});
    return json;
}

Terms termsOf(const Json& json) {
    Terms terms;
    for (const Json& item : json) terms.emplace_back(item.at(0).get<int>(), item.at(1).get<double>());
    return terms;
}

Json toJson(const QuantityInfo& q) {
    Json json{{"name", q.name}, {"unit", q.unit}, {"sort", static_cast<int>(q.sort)}};
    if (!q.a.empty()) json["a"] = toJson(q.a);
    if (!q.b.empty()) json["b"] = toJson(q.b);
    if (q.index >= 0) json["index"] = q.index;
    return json;
}

QuantityInfo quantityOf(const Json& json) {
    QuantityInfo q{json.at("name").get<std::string>(), json.at("unit").get<std::string>()};
    const int sort = json.at("sort").get<int>();
    if (sort < 0 || sort > static_cast<int>(QuantityInfo::Sort::conducting)) throw std::out_of_range("sort");
    q.sort = static_cast<QuantityInfo::Sort>(sort);
    if (json.contains("a")) q.a = termsOf(json["a"]);
    if (json.contains("b")) q.b = termsOf(json["b"]);
    q.index = json.value("index", -1);
    return q;
}

Json toJson(const SpanOutcome& span) {
    Json json{{"text", span.text},     {"from", span.from},     {"to", span.to},         {"engine", span.engine},
              {"times", span.times}, {"ruled", span.ruled},   {"seconds", span.seconds}, {"priced", span.priced}, {"points", span.points}, {"events", span.events},
              {"ended", span.ended},   {"energy before", span.energyBefore}, {"energy after", span.energyAfter},
              {"energy gone", span.energyGone}, {"energy new", span.energyNew}, {"gone", span.gone}, {"added", span.added}};
    for (const Jump& jump : span.jumps)
        json["jumps"].push_back({{"quantity", jump.quantity},
                                 {"unit", jump.unit},
                                 {"before", jump.before},
                                 {"after", jump.after},
                                 {"caution", jump.caution}});
    return json;
}

Json toJson(const RunSummary& s) {
    Json json{{"end", static_cast<int>(s.end)}, {"reached", s.reached}, {"engine", s.engine}};
    if (s.error) json["error"] = {{"message", s.error->message}, {"part", s.error->part}, {"net", s.error->net}};
    for (const auto& [name, count] : s.counters) json["counters"][name] = count;
    for (const auto& [name, seconds] : s.seconds) json["seconds"][name] = seconds;
    for (const auto& [name, words] : s.settled) json["settled"].push_back({name, words});
    for (const SpanOutcome& span : s.spans) json["spans"].push_back(toJson(span));
    if (s.priced > 0) json["priced"] = s.priced;
    for (const auto& [part, count] : s.eventsByPart) json["events"][part] = count;
    for (const auto& [part, count] : s.stepsByPart) json["steps"][part] = count;
    return json;
}

SpanOutcome spanOf(const Json& json) {
    SpanOutcome span{.text = json.at("text").get<std::string>(),
                     .from = json.at("from").get<Tick>(),
                     .to = json.at("to").get<Tick>(),
                     .engine = json.at("engine").get<std::string>(),
                     .times = json.at("times").get<int>(),
                     .seconds = json.at("seconds").get<double>(),
                     .priced = json.value("priced", 0.0),
                     .points = json.at("points").get<std::int64_t>(),
                     .events = json.at("events").get<std::int64_t>(),
                     .ruled = json.value("ruled", ""),
                     .ended = json.at("ended").get<std::string>(),
                     .energyBefore = json.at("energy before").get<double>(),
                     .energyAfter = json.at("energy after").get<double>(),
                     .energyGone = json.at("energy gone").get<double>(),
                     .energyNew = json.at("energy new").get<double>(),
                     .gone = json.at("gone").get<std::vector<std::string>>(),
                     .added = json.at("added").get<std::vector<std::string>>()};
    if (json.contains("jumps"))
        for (const Json& jump : json["jumps"])
            span.jumps.push_back({.quantity = jump.at("quantity").get<std::string>(),
                                  .unit = jump.at("unit").get<std::string>(),
                                  .before = jump.at("before").get<double>(),
                                  .after = jump.at("after").get<double>(),
                                  .caution = jump.at("caution").get<bool>()});
    return span;
}

RunSummary summaryOf(const Json& json) {
    RunSummary s;
    const int end = json.at("end").get<int>();
    if (end < 0 || end > static_cast<int>(RunEnd::failed)) throw std::out_of_range("end");
    s.end = static_cast<RunEnd>(end);
    s.reached = json.at("reached").get<Tick>();
    s.engine = json.at("engine").get<std::string>();
    if (json.contains("error"))
        s.error = Error{ErrorCode::numeric, json["error"].at("message").get<std::string>(),
                        json["error"].at("part").get<std::string>(), json["error"].at("net").get<std::string>()};
    const auto fill = [&](const char* key, auto add) {
        if (json.contains(key))
            for (const auto& [name, value] : json[key].items()) add(name, value);
    };
    fill("counters", [&](const std::string& n, const Json& v) { s.counters.emplace_back(n, v.get<std::int64_t>()); });
    fill("seconds", [&](const std::string& n, const Json& v) { s.seconds.emplace_back(n, v.get<double>()); });
    if (json.contains("settled"))
        for (const Json& line : json["settled"])
            s.settled.emplace_back(line.at(0).get<std::string>(), line.at(1).get<std::string>());
    if (json.contains("spans"))
        for (const Json& span : json["spans"]) s.spans.push_back(spanOf(span));
    s.priced = json.value("priced", 0.0);
    fill("steps", [&](const std::string& n, const Json& v) { s.stepsByPart[n] = v.get<std::int64_t>(); });
    fill("events", [&](const std::string& n, const Json& v) { s.eventsByPart[n] = v.get<std::int64_t>(); });
    return s;
}

}  // namespace

RunAbout aboutOf(const Run& run, bool over) {
    RunAbout about{writeHedge(run.project()),
                   run.plan(),
                   run.scene(),
                   run.end(),
                   {},
                   run.quantities(),
                   {},
                   run.ratings(),
                   run.layout(),
                   run.frame().signalCount(),
                   over ? run.provenance() : run.origin()};
    if (over) {
        about.summary = run.summary();
    } else {
        about.summary.engine = run.engine().name();
        about.summary.error = Error{ErrorCode::resource, "the program ended while this run was on its way"};
    }
    return about;
}

std::string writeAbout(const RunAbout& about) {
    Json json{{"plan", about.plan}, {"scene", about.scene}, {"end", about.end}, {"summary", toJson(about.summary)}};
    json["quantities"] = json["ratings"] = Json::array();
    for (std::size_t i = 0; i < about.quantities.size(); ++i) {
        json["quantities"].push_back(toJson(about.quantities[i]));
        if (i < about.logic.size() && about.logic[i]) json["quantities"].back()["logic"] = true;
    }
    for (const RatingInfo& r : about.ratings) json["ratings"].push_back({r.part, r.quantity, r.label, r.limit});
    json["unknowns"] = about.layout.unknowns;
    json["switching"] = about.layout.switching;
    json["elements"] = about.layout.placeOfElement.size();
    json["signals"] = about.signalCount;
    json["provenance"] = Json::object();
    for (const auto& [key, text] : about.provenance) json["provenance"][key] = text;
    return json.dump(-1, ' ', false, Json::error_handler_t::replace);
}

Status readAbout(const std::string& text, RunAbout& about) {
    constexpr std::size_t most = std::size_t{1} << 24;  // elements, unknowns and signals
    try {
        if (!beyondBounds(text).empty()) throw std::out_of_range("bounds");
        const Json json = Json::parse(text);
        about.plan = json.at("plan").get<std::string>();
        about.scene = json.at("scene").get<std::string>();
        about.end = json.at("end").get<Tick>();
        about.summary = summaryOf(json.at("summary"));
        RowLayout& layout = about.layout;
        layout.unknowns = json.at("unknowns").get<int>();
        layout.switching = json.at("switching").get<std::vector<int>>();
        const auto elements = json.at("elements").get<std::size_t>();
        about.signalCount = json.at("signals").get<std::size_t>();
        if (layout.unknowns < 0 ||
            std::max({static_cast<std::size_t>(layout.unknowns), elements, about.signalCount}) > most)
            throw std::out_of_range("size");
        layout.placeOfElement.assign(elements, -1);
        for (std::size_t place = 0; place < layout.switching.size(); ++place)
            layout.placeOfElement.at(static_cast<std::size_t>(layout.switching[place])) = static_cast<int>(place);
        for (const Json& item : json.at("quantities")) {
            QuantityInfo q = quantityOf(item);
            for (const Terms* terms : {&q.a, &q.b})
                for (const auto& [column, factor] : *terms)
                    if (column < 0 || column >= layout.unknowns) throw std::out_of_range("column");
            const bool ofElement = q.sort == QuantityInfo::Sort::conducting;
            if (q.sort == QuantityInfo::Sort::signal || ofElement) {
                if (q.index < 0 || static_cast<std::size_t>(q.index) >= (ofElement ? elements : about.signalCount))
                    throw std::out_of_range("index");
                if (ofElement && layout.placeOfElement[static_cast<std::size_t>(q.index)] < 0)
                    throw std::out_of_range("index");
            }
            about.quantities.push_back(std::move(q));
            about.logic.push_back(item.value("logic", false));
        }
        for (const Json& item : json.at("ratings"))
            about.ratings.push_back({item.at(0).get<std::string>(), item.at(1).get<std::string>(),
                                     item.at(2).get<std::string>(), item.at(3).get<double>()});
        for (const auto& [key, value] : json.at("provenance").items())
            about.provenance.emplace_back(key, value.get<std::string>());
    } catch (const std::exception&) {
        return Error{ErrorCode::file, "this run is damaged: what is known of it cannot be read"};
    }
    return {};
}

}  // namespace hedgerow

// The service: JSON-RPC 2.0 over standard input and output, each message behind its Content-Length as in the Language Server
// Protocol. Methods that compute run beside the reading of messages, tell their progress, and can be cancelled.

#include <algorithm>
#include <condition_variable>
#include <cstring>
#include <deque>
#include <filesystem>
#include <functional>
#include <iostream>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/machine.h"
#include "files/outside_files.h"
#include "base/text.h"
#include "base/version.h"
#include "commands.h"
#include "formats/hedge/hedge.h"
#include "model/edits.h"
#include "network/checks.h"
#include "runs/price.h"
#include "runs/readings.h"
#include "runs/registry.h"
#include "runs/responses.h"
#include "shared.h"
#include "studies/study_file.h"
#include "studies/study_statistics.h"

namespace hedgerow::cli {

namespace {

namespace fs = std::filesystem;

constexpr std::size_t mostBytes = std::size_t{64} << 20;  ///< of a message
constexpr std::size_t mostHeader = 4096, mostWaiting = 256, mostTraced = 50'000'000;
enum Code { parseError = -32700, invalidRequest = -32600, noMethod = -32601, invalidParams = -32602, failedCode = -32000, cancelledCode = -32800 };

/// An error as the protocol has it.
struct Fault {
    int code = failedCode;
    std::string message = {};
    Json data = nullptr;
};

Fault faultOf(const Error& error) {
    return {error.code == ErrorCode::stop ? cancelledCode : failedCode, error.text(), toJson(error)};
}

std::string base64(const std::vector<double>& values) {
    static constexpr char letters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string bytes(values.size() * sizeof(double), '\0');
    std::memcpy(bytes.data(), values.data(), bytes.size());  // this machine is little-endian, as the protocol asks
    std::string text;
    text.reserve((bytes.size() + 2) / 3 * 4);
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        const auto byte = [&](std::size_t k) { return k < bytes.size() ? static_cast<unsigned char>(bytes[k]) : 0u; };
        const unsigned three = byte(i) << 16 | byte(i + 1) << 8 | byte(i + 2);
        text += letters[three >> 18 & 63];
        text += letters[three >> 12 & 63];
        text += i + 1 < bytes.size() ? letters[three >> 6 & 63] : '=';
        text += i + 2 < bytes.size() ? letters[three & 63] : '=';
    }
    return text;
}

/// What a method takes: a name, a type, and whether it must be there.
struct Param {
    const char* name;
    const char* type;  ///< of JSON: "string", "number", "integer", "boolean", "array of strings"
    bool needed = false;
    const char* about = "";
};

/// The parameters of a call. What is missing or of another type throws a Fault.
class Params {
public:
    explicit Params(const Json& json) : json_(json) {}
    std::string text(const char* name, const std::string& otherwise = "") const {
        return json_.contains(name) ? json_[name].get<std::string>() : otherwise;
    }
    double number(const char* name, double otherwise) const {
        return json_.contains(name) ? json_[name].get<double>() : otherwise;
    }
    Json any(const char* name) const { return json_.value(name, Json()); }
    bool has(const char* name) const { return json_.contains(name); }
    bool flag(const char* name) const { return json_.value(name, false); }
    std::vector<std::string> texts(const char* name) const {
        return json_.contains(name) ? json_[name].get<std::vector<std::string>>() : std::vector<std::string>();
    }
    std::int64_t whole(const char* name, std::int64_t otherwise = 0) const {
        return json_.contains(name) ? json_[name].get<std::int64_t>() : otherwise;
    }

private:
    const Json& json_;
};

class Service;
/// What a computing method can say meanwhile, and when it is to stop.
struct Call {
    Json id;
    CancelToken cancel;
    std::function<void(const Json&)> progress;
};

struct Method {
    const char* name;
    const char* about;
    std::vector<Param> params;
    bool computes = false;  ///< runs beside the reading of messages
    std::function<Json(Service&, const Params&, const Call&)> work;
};
const std::vector<Method>& methods();

class Service {
public:
    int run();

    std::shared_ptr<const Project> project(const Params& params) {
        const std::lock_guard lock(mutex_);
        const auto found = projects_.find(params.whole("project"));
        if (found == projects_.end()) throw Fault{invalidParams, "there is no such project: open one"};
        return found->second;
    }
    std::int64_t add(std::shared_ptr<const Project> project) {
        const std::lock_guard lock(mutex_);
        projects_[++last_] = std::move(project);
        return last_;
    }
    void replace(std::int64_t handle, std::shared_ptr<const Project> project) {
        const std::lock_guard lock(mutex_);
        projects_[handle] = std::move(project);
    }
    std::int64_t add(std::shared_ptr<Run> run) {
        const std::lock_guard lock(mutex_);
        runs_[++last_] = std::move(run);
        return last_;
    }
    std::shared_ptr<Run> run(const Params& params) {
        const std::lock_guard lock(mutex_);
        const auto found = runs_.find(params.whole("run"));
        if (found == runs_.end()) throw Fault{invalidParams, "there is no such run"};
        return found->second;
    }
    void drop(std::int64_t handle) {
        const std::lock_guard lock(mutex_);
        if (projects_.erase(handle) + runs_.erase(handle) == 0) throw Fault{invalidParams, "there is nothing of this number"};
    }
    bool cancel(const Json& id) {
        const std::lock_guard lock(mutex_);
        const auto found = running_.find(id.dump());
        if (found == running_.end()) return false;
        found->second.cancel();
        return true;
    }
    void end() { ending_ = true; }

private:
    std::optional<std::string> next(bool& broken);
    void take(const std::string& text);
    void handle(const Json& request, const std::function<void(std::optional<Json>)>& answer);
    Json call(const Method& method, const Json& params, const Json& id, const CancelToken& cancel);
    void say(const Json& message);
    void sayFault(const Json& id, const Fault& fault) { say(faultMessage(id, fault)); }
    static Json faultMessage(const Json& id, const Fault& fault) {
        Json json{{"jsonrpc", "2.0"}, {"id", id}, {"error", {{"code", fault.code}, {"message", fault.message}}}};
        if (!fault.data.is_null()) json["error"]["data"] = fault.data;
        return json;
    }

    std::mutex mutex_, saying_;
    std::condition_variable quiet_;
    std::map<std::int64_t, std::shared_ptr<const Project>> projects_;
    std::map<std::int64_t, std::shared_ptr<Run>> runs_;
    std::map<std::string, CancelToken> running_;  ///< by the identifier of their call
    std::size_t working_ = 0;
    std::int64_t last_ = 0;
    std::atomic<bool> ending_ = false;
};

void Service::say(const Json& message) {
    const std::string text = message.dump(-1, ' ', false, Json::error_handler_t::replace);
    const std::lock_guard lock(saying_);
    std::fprintf(stdout, "Content-Length: %zu\r\n\r\n", text.size());
    std::fwrite(text.data(), 1, text.size(), stdout);
    std::fflush(stdout);
}

/// The next message; nothing at the end of the input. @param broken  set where what came has no frame
std::optional<std::string> Service::next(bool& broken) {
    std::string line;
    std::size_t length = 0;
    bool known = false, any = false;
    for (;;) {
        line.clear();
        int c = 0;
        while ((c = std::getchar()) != EOF && c != '\n' && line.size() < mostHeader) line += static_cast<char>(c);
        if (c == EOF && line.empty() && !any) return std::nullopt;
        if (c == EOF || line.size() >= mostHeader) return broken = true, std::nullopt;
        any = true;
        if (!line.empty() && line.back() == '\r') line.pop_back();
        if (line.empty()) {
            if (known) break;
            return broken = true, std::nullopt;
        }
        constexpr std::string_view name = "content-length:";
        std::string lower = line.substr(0, name.size());
        std::transform(lower.begin(), lower.end(), lower.begin(), [](unsigned char l) { return static_cast<char>(std::tolower(l)); });
        if (lower != name) continue;
        char* after = nullptr;
        const std::string value = line.substr(name.size());
        const unsigned long long n = std::strtoull(value.c_str(), &after, 10);
        if (after == value.c_str() || value.find('-') != std::string::npos) return broken = true, std::nullopt;
        length = n, known = true;
    }
    if (length > mostBytes) {
        // It is read and forgotten, so that what follows is understood.
        for (std::size_t left = length; left > 0; --left)
            if (std::getchar() == EOF) return broken = true, std::nullopt;
        sayFault(nullptr, {invalidRequest, fmt::format("a message holds at most {} bytes", mostBytes)});
        return std::string();
    }
    std::string text(length, '\0');
    if (std::fread(text.data(), 1, length, stdin) != length) return broken = true, std::nullopt;
    return text;
}

Json Service::call(const Method& method, const Json& given, const Json& id, const CancelToken& cancel) {
    Json params = given.is_null() ? Json::object() : given;
    if (params.is_array()) {
        // By position, in the order of the description.
        Json named = Json::object();
        if (params.size() > method.params.size()) throw Fault{invalidParams, fmt::format("{} takes {} parameters", method.name, method.params.size())};
        for (std::size_t i = 0; i < params.size(); ++i) named[method.params[i].name] = params[i];
        params = std::move(named);
    }
    for (const auto& [name, value] : params.items()) {
        const auto known = std::find_if(method.params.begin(), method.params.end(), [&](const Param& p) { return name == p.name; });
        if (known == method.params.end()) throw Fault{invalidParams, fmt::format("{} has no parameter '{}'", method.name, name)};
        const std::string_view type = known->type;
        const bool fits = type == "string" ? value.is_string() : type == "number" ? value.is_number() : type == "integer" ? value.is_number_integer()
                          : type == "boolean" ? value.is_boolean()
                          : type == "any"     ? true
                                              : value.is_array() && std::all_of(value.begin(), value.end(), [](const Json& v) { return v.is_string(); });
        if (!fits) throw Fault{invalidParams, fmt::format("{}: '{}' is no {}", method.name, name, type)};
    }
    for (const Param& param : method.params)
        if (param.needed && !params.contains(param.name)) throw Fault{invalidParams, fmt::format("{}: '{}' is missing", method.name, param.name)};
    const Call context{.id = id, .cancel = cancel, .progress = [this, id](const Json& at) {
                           if (!id.is_null()) say({{"jsonrpc", "2.0"}, {"method", "progress"}, {"params", {{"id", id}, {"at", at}}}});
                       }};
    return method.work(*this, Params(params), context);
}

/// @param answer  gets the answer, or nothing for a notification; from any thread, once
void Service::handle(const Json& request, const std::function<void(std::optional<Json>)>& answer) {
    if (!request.is_object() || request.value("jsonrpc", Json()) != "2.0" || !request.contains("method") || !request["method"].is_string() ||
        (request.contains("params") && !request["params"].is_structured())) {
        const Json id = request.is_object() && request.contains("id") && (request["id"].is_string() || request["id"].is_number()) ? request["id"] : Json();
        return answer(faultMessage(id, {invalidRequest, "this is no request of JSON-RPC 2.0"}));
    }
    const bool notification = !request.contains("id");
    const Json id = notification ? Json() : request["id"];
    if (!notification && !id.is_string() && !id.is_number() && !id.is_null())
        return answer(faultMessage(nullptr, {invalidRequest, "an identifier is a text or a number"}));
    const std::string name = request["method"];
    const Json params = request.value("params", Json());
    const auto found = std::find_if(methods().begin(), methods().end(), [&](const Method& m) { return name == m.name; });
    if (found == methods().end())
        return answer(notification ? std::nullopt : std::optional(faultMessage(id, {noMethod, fmt::format("there is no method '{}'", name)})));
    const CancelToken cancel;
    const auto work = [this, method = &*found, params, id, notification, answer, cancel] {
        std::optional<Json> said;
        try {
            said = Json{{"jsonrpc", "2.0"}, {"id", id}, {"result", call(*method, params, id, cancel)}};
        } catch (const Fault& fault) {
            said = faultMessage(id, fault);
        } catch (const std::bad_alloc&) {
            keepMemoryReserve();
            said = faultMessage(id, {failedCode, "there is no memory left for this"});
        } catch (const Json::exception& exception) {
            said = faultMessage(id, {invalidParams, exception.what()});
        }
        answer(notification ? std::nullopt : std::move(said));
    };
    if (!found->computes) return work();
    {
        std::unique_lock lock(mutex_);
        if (working_ >= mostWaiting) {
            lock.unlock();
            return answer(notification ? std::nullopt : std::optional(faultMessage(id, {failedCode, "too much is being computed already"})));
        }
        ++working_;
        if (!notification) running_.insert_or_assign(id.dump(), cancel);
    }
    std::thread([this, work, id, notification] {
        work();
        const std::lock_guard lock(mutex_);
        if (!notification) running_.erase(id.dump());
        --working_;
        quiet_.notify_all();
    }).detach();
}

void Service::take(const std::string& text) {
    const Json message = Json::parse(text, nullptr, false);
    if (message.is_discarded()) return sayFault(nullptr, {parseError, "this is no JSON"});
    if (!message.is_array()) return handle(message, [this](std::optional<Json> answer) {
        if (answer) say(*answer);
    });
    if (message.empty()) return sayFault(nullptr, {invalidRequest, "an empty batch"});
    // A batch is answered as a whole, when its last call is over.
    struct Batch {
        std::mutex mutex;
        Json answers = Json::array();
        std::size_t open = 0;
    };
    const auto batch = std::make_shared<Batch>();
    batch->open = message.size();
    for (const Json& one : message)
        handle(one, [this, batch](std::optional<Json> answer) {
            const std::lock_guard lock(batch->mutex);
            if (answer) batch->answers.push_back(std::move(*answer));
            if (--batch->open == 0 && !batch->answers.empty()) say(batch->answers);
        });
}

int Service::run() {
    bool broken = false;
    while (!ending_) {
        const auto text = next(broken);
        if (!text) break;
        if (!text->empty()) take(*text);
    }
    if (broken) sayFault(nullptr, {parseError, "a message stands behind 'Content-Length: N' and an empty line"});
    // Whoever is gone wants no more answers.
    std::unique_lock lock(mutex_);
    for (const auto& [id, cancel] : running_) cancel.cancel();
    quiet_.wait(lock, [this] { return working_ == 0; });
    return broken ? usage : success;
}

// ---- the methods

RunSettings settingsFor(const Params& params) {
    RunSettings settings;
    settings.scene = params.text("scene"), settings.plan = params.text("plan");
    settings.end = params.text("end"), settings.engine = params.text("engine");
    settings.start = params.text("start"), settings.step = params.text("step");
    settings.settle = params.flag("settle");
    settings.periods = params.text("periods"), settings.period = params.text("period");
    settings.spans = params.texts("spans");
    return settings;
}

Json summaryJson(const Run& run) {
    const RunSummary& s = run.summary();
    Json json{{"end", std::string(describe(s.end))}, {"reached", toSeconds(s.reached)}, {"engine", s.engine}, {"points", run.points()}};
    for (const auto& [name, count] : s.counters) json["counters"][name] = count;
    for (const auto& [name, seconds] : s.seconds) json["seconds"][name] = seconds;
    for (const auto& [name, text] : s.settled) json["settled"][name] = text;
    return json;
}

Json runIt(Service& service, const Params& params, const Call& call, bool settle) {
    RunSettings settings = settingsFor(params);
    settings.settle = settings.settle || settle;
    const auto run = Run::prepare(service.project(params), settings);
    if (!run) throw faultOf(run.error());
    std::atomic<bool> over = false;
    std::thread telling([&] {
        for (int n = 1; !over; ++n) {
            std::this_thread::sleep_for(std::chrono::milliseconds(20));
            if (n % 25 == 0) call.progress({{"reached", toSeconds((*run)->reached())}, {"end", toSeconds((*run)->end())}});
        }
    });
    (*run)->execute(call.cancel);
    over = true;
    telling.join();
    const RunSummary& summary = (*run)->summary();
    if (summary.error) throw faultOf(*summary.error);
    if (call.cancel.cancelled()) throw Fault{cancelledCode, "cancelled"};
    Json json = summaryJson(**run);
    json["run"] = service.add(*run);
    return json;
}

const std::vector<Param> solving{{"project", "integer", true, "of open"}, {"plan", "string"}, {"scene", "string"}, {"engine", "string"},
                                 {"end", "string"}, {"start", "string"}, {"step", "string"}, {"spans", "array of strings"},
                                 {"settle", "boolean"}, {"periods", "string"}, {"period", "string"}};

Tick tickOf(const Params& params, const char* name, Tick otherwise) {
    return params.has(name) ? toTicks(std::clamp(params.number(name, 0), 0.0, longestRunSeconds)) : otherwise;
}

Json describeIt();

const std::vector<Method>& methods() {
    static const std::vector<Method> all{
        {"rpc.discover", "What there is: methods, their parameters, errors", {}, false,
         [](Service&, const Params&, const Call&) { return describeIt(); }},
        {"open", "Opens a project file, or takes the text of one", {{"path", "string"}, {"text", "string"}, {"allowOutside", "boolean"}}, false,
         [](Service& service, const Params& params, const Call&) -> Json {
             if (params.has("path") == params.has("text")) throw Fault{invalidParams, "open: either 'path' or 'text'"};
             auto loaded = params.has("path") ? loadHedge(params.text("path")) : readHedge(params.text("text"));
             if (!loaded) throw faultOf(loaded.error());
             if (params.has("path")) loaded->project.folder.allow(AllowedFiles::ofUser().of(params.text("path")));
             if (params.flag("allowOutside")) loaded->project.folder.allowAll();
             Json json{{"title", loaded->project.title}, {"plans", Json::array()}, {"scenes", Json::array()}, {"parameters", Json::array()}};
             for (const Plan& plan : loaded->project.plans) json["plans"].push_back(plan.name);
             for (const Scene& scene : loaded->project.scenes) json["scenes"].push_back(scene.name);
             for (const Parameter& p : loaded->project.parameters)
                 json["parameters"].push_back({{"name", p.name}, {"value", p.value}, {"unit", p.unit}});
             json["project"] = service.add(std::make_shared<const Project>(std::move(loaded->project)));
             return json;
         }},
        {"close", "Forgets a project or a run", {{"number", "integer", true}}, false,
         [](Service& service, const Params& params, const Call&) -> Json { return service.drop(params.whole("number")), nullptr; }},
        {"list", "Parts, values and quantities of a project", {{"project", "integer", true}}, false,
         [](Service& service, const Params& params, const Call&) -> Json {
             const auto project = service.project(params);
             Json json{{"parts", Json::array()}, {"parameters", Json::array()}, {"quantities", Json::array()}};
             for (const Part& part : project->sheets.front().parts) {
                 Json one{{"name", part.name}, {"kind", part.kind}, {"rung", part.rung}, {"values", Json::object()}};
                 for (const auto& [key, text] : part.values.all()) one["values"][key] = text;
                 json["parts"].push_back(std::move(one));
             }
             for (const Parameter& p : project->parameters) json["parameters"].push_back({{"name", p.name}, {"value", p.value}, {"unit", p.unit}});
             if (const auto run = Run::prepare(project, {.memoryLimit = 0}))
                 for (const QuantityInfo& q : (*run)->quantities()) json["quantities"].push_back({{"name", q.name}, {"unit", q.unit}});
             return json;
         }},
        {"set", "Sets a project parameter, or a value of a part: Rload, C2.c, X1.A.S1.ron, C2.rung", {{"project", "integer", true}, {"what", "string", true}, {"value", "string", true}},
         false,
         [](Service& service, const Params& params, const Call&) -> Json {
             const auto project = service.project(params);
             const std::string what = params.text("what"), value = params.text("value");
             Project changed = *project;
             if (what.ends_with(".rung")) {
                 Part* found = nullptr;
                 for (Part& part : changed.sheets.front().parts)
                     if (part.name == what.substr(0, what.size() - 5)) found = &part;
                 const auto rung = numberIn(value);
                 if (!found || !rung) throw Fault{invalidParams, fmt::format("'{}' is no rung of a part", what)};
                 found->rung = static_cast<int>(std::clamp(*rung, 1.0, 4.0));
             } else {
                 auto made = withPoint(changed, {.extra = {}}, {Varied{.target = what}}, {value});
                 if (!made) throw faultOf(made.error());
                 changed = std::move(*made);
             }
             service.replace(params.whole("project"), std::make_shared<const Project>(std::move(changed)));
             return nullptr;
         }},
        {"check", "What keeps a project from running; empty where nothing does", {{"project", "integer", true}}, false,
         [](Service& service, const Params& params, const Call&) -> Json {
             Json json = Json::array();
             for (const Error& error : checkProject(*service.project(params), partLibrary())) json.push_back(toJson(error));
             return json;
         }},
        {"save", "Writes a project to a file", {{"project", "integer", true}, {"path", "string", true}}, false,
         [](Service& service, const Params& params, const Call&) -> Json {
             if (auto saved = saveHedge(*service.project(params), params.text("path")); !saved) throw faultOf(saved.error());
             return nullptr;
         }},
        {"price", "What a run would cost: s, bytes, points", solving, true,
         [](Service& service, const Params& params, const Call& call) -> Json {
             const auto run = Run::prepare(service.project(params), settingsFor(params));
             if (!run) throw faultOf(run.error());
             const auto price = priceOf(**run, PriceBook::read(PriceBook::usualFile()), 0.2, call.cancel);
             if (!price) throw faultOf(price.error());
             return {{"seconds", price->seconds}, {"low", price->low}, {"high", price->high}, {"events", price->events},
                     {"points", price->points}, {"bytes", price->bytes}, {"disk", price->disk}};
         }},
        {"run", "Runs a project; the answer comes when the run is over", solving, true,
         [](Service& service, const Params& params, const Call& call) { return runIt(service, params, call, false); }},
        {"settle", "Finds the periodic state and runs some periods of it", solving, true,
         [](Service& service, const Params& params, const Call& call) { return runIt(service, params, call, true); }},
        {"measure", "Least, greatest, mean and effective value of a quantity or expression of a run", {{"run", "integer", true}, {"quantity", "string", true}, {"from", "number", false, "s"}, {"to", "number", false, "s"}},
         true,
         [](Service& service, const Params& params, const Call&) -> Json {
             const auto run = service.run(params);
             const auto trace = readTrace(*run, params.text("quantity"));
             if (!trace) throw faultOf(trace.error());
             const auto m = (*trace)->measure(tickOf(params, "from", 0), tickOf(params, "to", run->reached()));
             if (!m) throw Fault{failedCode, "nothing was recorded there"};
             return {{"unit", (*trace)->unit()}, {"min", m->min}, {"max", m->max}, {"mean", m->mean}, {"rms", m->rms},
                     {"pp", m->peakToPeak()}, {"seconds", m->seconds}};
         }},
        {"trace", "Stored points of a quantity or expression: base64 of little-endian float64, or written to an .h5 or .csv file",
         {{"run", "integer", true}, {"quantity", "string", true}, {"from", "number", false, "s"}, {"to", "number", false, "s"},
          {"every", "number", false, "s: on a grid"}, {"file", "string", false, "where it is written instead"}},
         true,
         [](Service& service, const Params& params, const Call& call) -> Json {
             const auto run = service.run(params);
             Extract extract;
             if (params.has("from")) extract.from = tickOf(params, "from", 0);
             if (params.has("to")) extract.to = tickOf(params, "to", 0);
             extract.every = params.number("every", 0);
             if (params.has("every") && !(extract.every > 0)) throw Fault{invalidParams, "trace: 'every' is above 0"};
             if (params.has("file")) {
                 const fs::path path = params.text("file");
                 const std::string format = path.extension() == ".h5" ? "hdf5" : path.extension() == ".csv" ? "csv" : "";
                 if (format.empty()) throw Fault{invalidParams, "trace: a file ends with .h5 or .csv"};
                 if (auto written = exportRun(*run, format, path, {params.text("quantity")}, call.cancel, extract); !written)
                     throw faultOf(written.error());
                 return {{"file", path.string()}};
             }
             const auto trace = readTrace(*run, params.text("quantity"));
             if (!trace) throw faultOf(trace.error());
             auto cut = extracted({*trace}, extract);
             if (!cut) throw faultOf(cut.error());
             const Trace& points = *cut->front();
             if (points.size() > mostTraced) throw Fault{failedCode, "these are too many points: cut them out, or write them to a file"};
             std::vector<double> t(points.size()), v(points.size());
             for (std::size_t i = 0; i < points.size(); ++i) t[i] = toSeconds(points.time(i)), v[i] = points.value(i);
             return {{"unit", points.unit()}, {"points", points.size()}, {"t", base64(t)}, {"v", base64(v)}};
         }},
        {"respond", "Frequency responses about the periodic state",
         {{"project", "integer", true}, {"plan", "string"}, {"scene", "string"}, {"loop", "string", false, "a signal"}, {"impedance", "string", false, "a net"},
          {"from", "string"}, {"to", "array of strings"}, {"least", "number", false, "Hz"}, {"most", "number", false, "Hz"}, {"points", "integer"}},
         true,
         [](Service& service, const Params& params, const Call& call) -> Json {
             ResponseQuestion question;
             question.sort = params.has("loop") ? ResponseQuestion::Sort::loop : params.has("impedance") ? ResponseQuestion::Sort::impedance : ResponseQuestion::Sort::transfer;
             question.from = params.has("loop") ? params.text("loop") : params.has("impedance") ? params.text("impedance") : params.text("from");
             question.to = params.texts("to");
             question.least = params.number("least", 10), question.most = params.number("most", 1e6);
             question.points = static_cast<int>(std::clamp<std::int64_t>(params.whole("points", 200), 0, 1'000'000));
             if (const auto sound = frequenciesOf(question); !sound) throw faultOf(sound.error());
             const auto run = Run::prepare(service.project(params), {.scene = params.text("scene"), .plan = params.text("plan"), .settle = true});
             if (!run) throw faultOf(run.error());
             const auto curves = respondTo(**run, question, call.cancel);
             if (!curves) throw faultOf(curves.error());
             Json json = Json::array();
             for (const FrequencyResponse& curve : *curves) {
                 std::vector<double> real, imaginary;
                 for (const auto& value : curve.values) real.push_back(value.real()), imaginary.push_back(value.imag());
                 json.push_back({{"name", curve.name}, {"unit", curve.unit}, {"f", base64(curve.frequencies)}, {"real", base64(real)},
                                 {"imaginary", base64(imaginary)}});
             }
             return json;
         }},
        {"study", "Many runs from one project; the answer comes when all are over",
         {{"project", "integer", true}, {"varied", "array of strings", true}, {"measured", "array of strings", true}, {"runs", "string"}, {"seed", "string"},
          {"keep", "string"}, {"plan", "string"}, {"scene", "string"}, {"settle", "boolean"}, {"file", "string", true, "a new *.study file"}, {"threads", "integer"}},
         true,
         [](Service& service, const Params& params, const Call& call) -> Json {
             ParameterStudy study{.name = "from a program", .extra = {}};
             study.varied = params.texts("varied"), study.measured = params.texts("measured");
             study.runs = params.text("runs", "grid"), study.seed = params.text("seed", "1"), study.keep = params.text("keep");
             study.plan = params.text("plan"), study.scene = params.text("scene"), study.settle = params.flag("settle");
             const auto setup = prepareStudy(service.project(params), study);
             if (!setup) throw faultOf(setup.error());
             auto file = StudyFile::create(params.text("file"), *setup);
             if (!file) throw faultOf(file.error());
             StudyRunning running{.threads = static_cast<int>(std::clamp<std::int64_t>(params.whole("threads", 0), 0, 1024))};
             if (!setup->keep.empty()) {
                 running.traces = (*file)->path().string() + "-traces";
                 std::error_code failed;
                 fs::create_directories(running.traces, failed);
             }
             Stopwatch since;
             running.progress = [&](const StudyProgress& at) {
                 if (since.seconds() < 0.5 && at.done < at.of) return;
                 since = Stopwatch();
                 call.progress({{"done", at.done}, {"of", at.of}, {"left", at.left}});
             };
             if (auto done = runStudy(*setup, **file, running, call.cancel); !done) throw faultOf(done.error());
             const auto table = (*file)->table();
             if (!table) throw faultOf(table.error());
             Json json{{"rows", table->rows()}, {"varied", Json::object()}, {"measured", Json::object()}, {"units", table->measuredUnits},
                       {"errors", table->errors}, {"summary", studySummary(*table)}, {"file", (*file)->path().string()}};
             for (std::size_t a = 0; a < table->varied.size(); ++a) {
                 std::vector<double> column;
                 Json texts = Json::array();
                 for (std::size_t row = 0; row < table->rows(); ++row) column.push_back(table->number(row, a)), texts.push_back(table->points[row][a]);
                 json["varied"][table->varied[a]] = {{"v", base64(column)}, {"texts", texts}};
             }
             for (std::size_t m = 0; m < table->measured.size(); ++m) json["measured"][table->measured[m]] = base64(table->values[m]);
             return json;
         }},
        {"cancel", "Asks a call that computes to stop; it then answers with an error of its own", {{"id", "any", true}}, false,
         [](Service& service, const Params& params, const Call&) -> Json { return service.cancel(params.any("id")); }},
        {"shutdown", "Ends the service", {}, false,
         [](Service& service, const Params&, const Call&) -> Json { return service.end(), nullptr; }},
    };
    return all;
}

Json describeIt() {
    Json json{{"openrpc", "1.2.6"}, {"info", {{"title", "Hedgerow"}, {"version", hedgerow::version}}}, {"methods", Json::array()}};
    for (const Method& method : methods()) {
        Json one{{"name", method.name}, {"summary", method.about}, {"params", Json::array()}, {"result", {{"name", "result"}, {"schema", Json::object()}}}};
        for (const Param& param : method.params) {
            const std::string_view type = param.type;
            Json schema = Json::object();
            if (type == "array of strings")
                schema = {{"type", "array"}, {"items", {{"type", "string"}}}};
            else if (type != "any")
                schema = {{"type", type}};
            Json p{{"name", param.name}, {"required", param.needed}, {"schema", schema}};
            if (*param.about) p["description"] = param.about;
            one["params"].push_back(std::move(p));
        }
        json["methods"].push_back(std::move(one));
    }
    return json;
}

}  // namespace

int serve(bool schema) {
    if (schema) {
        printJson(describeIt());
        return success;
    }
    return Service().run();
}

}  // namespace hedgerow::cli

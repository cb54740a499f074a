// What a run will cost, and where its time would go.

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "commands.h"
#include "model/quantity.h"
#include "runs/price.h"
#include "shared.h"

namespace hedgerow::cli {

namespace {

Json toJson(const SpanPrice& span) {
    Json json{{"text", span.text},       {"engine", span.engine}, {"simulated", span.simulated},
              {"seconds", span.seconds}, {"low", span.low},       {"high", span.high},
              {"events", span.events},   {"points", span.points}, {"bytes", span.bytes},
              {"tried wholly", span.whole}, {"waits", span.waits}, {"made of", span.made}};
    if (span.steps > 0) json["steps"] = span.steps;
    if (!span.ruled.empty()) json["steps ruled by"] = span.ruled;
    return json;
}

std::string rangeOf(double low, double high) {
    return fmt::format("{} to {}", formatQuantity(low, "s", 2), formatQuantity(high, "s", 2));
}

}  // namespace

int price(const RunOptions& options, double budget) {
    const auto settings = settingsOf(options);
    if (!settings) return usage;
    auto project = load(options.project, options.json, options.allowOutside);
    if (!project) return unreadable;
    project = withTolerance(project, options);
    const auto fail = [&](const Error& error, int code) {
        say(error, options.json);
        return code;
    };
    const auto prepared = Run::prepare(project, *settings);
    if (!prepared) return fail(prepared.error(), unsound);
    const auto price = priceOf(**prepared, PriceBook::read(PriceBook::usualFile()), budget, CancelToken());
    if (!price) return fail(price.error(), runFailed);
    if (options.json) {
        Json json{{"seconds", price->seconds}, {"low", price->low},       {"high", price->high},
                  {"events", price->events},   {"points", price->points}, {"bytes", price->bytes},
                  {"disk", price->disk},       {"spans", Json::array()}};
        for (const SpanPrice& span : price->spans) json["spans"].push_back(toJson(span));
        printJson(json);
        return success;
    }
    fmt::print("about {} ({}), {} of memory, {} when it is kept\n", formatQuantity(price->seconds, "s", 2),
               rangeOf(price->low, price->high), formatQuantity(price->bytes, "B", 2),
               formatQuantity(price->disk, "B", 2));
    for (const SpanPrice& span : price->spans) {
        fmt::print("  {:<40} {:>9} ({})\n", span.text.empty() ? "the whole run" : span.text,
                   formatQuantity(span.seconds, "s", 2), rangeOf(span.low, span.high));
        fmt::print("      {}{}{}\n", span.engine, span.made.empty() ? "" : ": " + span.made,
                   span.waits ? "; if it lasts as long as it may" : "");
    }
    return success;
}

}  // namespace hedgerow::cli

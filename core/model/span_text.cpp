#include "model/span_text.h"

#include <algorithm>

#include <fmt/format.h>

#include "base/text.h"
#include "model/rung_rule.h"

namespace hedgerow {

namespace {

constexpr std::string_view engineWords[] = {"best", "exact", "adaptive", "fixed"};

Error fault(std::string_view text, std::size_t at, std::string message) {
    Error error{ErrorCode::syntax, std::move(message)};
    error.position = static_cast<int>(std::min(at, text.size()));
    return error;
}

/// What stands behind a word at the beginning; nothing where it does not begin with it.
std::optional<std::string_view> behind(std::string_view text, std::string_view word) {
    text = trimmed(text);
    if (!text.starts_with(word)) return {};
    const std::string_view rest = text.substr(word.size());
    if (!rest.empty() && rest.front() != ' ') return {};
    return trimmed(rest);
}

/// "3m", "100u after event 2", "settled or 5m", "out.v > 23".
Status readEnd(std::string_view text, Span& span) {
    std::string_view time = trimmed(text);
    if (time.empty()) return Error{ErrorCode::syntax, "when the span ends is missing: until 3m"};
    const bool condition = time.find_first_of("<>") != std::string_view::npos;
    if (condition || behind(time, untilSettled)) {
        const std::size_t both = time.find(" or ");
        span.when = trimmed(time.substr(0, both));
        if (condition) {
            if (auto sound = readSpanCondition(span.when); !sound) return sound.error();
        } else if (span.when != untilSettled) {
            return Error{ErrorCode::syntax, "write: until settled, or: until settled or 5m"};
        }
        if (both == std::string_view::npos) return {};
        time = trimmed(time.substr(both + 4));
        if (time.empty()) return Error{ErrorCode::syntax, "behind 'or' stands the latest end: or 5m"};
    }
    if (const std::size_t after = time.find(" after "); after != std::string_view::npos) {
        const auto number = behind(time.substr(after + 7), "event");
        const auto counted = number ? numberIn(*number) : std::optional<double>();
        if (!counted || *counted < 1 || *counted != static_cast<int>(*counted))
            return Error{ErrorCode::syntax, "events are counted from 1: until 100u after event 2"};
        span.since = fmt::format("event {}", static_cast<int>(*counted));
        time = trimmed(time.substr(0, after));
    }
    span.until = time;
    return {};
}

}  // namespace

Result<SpanCondition> readSpanCondition(std::string_view text) {
    const std::size_t sign = text.find_first_of("<>");
    if (sign == std::string_view::npos) return fault(text, 0, "a condition is a quantity, < or >, and a value: out.v > 23");
    SpanCondition condition{std::string(trimmed(text.substr(0, sign))), text[sign] == '>',
                            std::string(trimmed(text.substr(sign + 1)))};
    if (condition.quantity.empty()) return fault(text, 0, "name the quantity: out.v > 23");
    if (condition.value.empty()) return fault(text, text.size(), "the value is missing: out.v > 23");
    return condition;
}

std::string spanEndText(const Span& span) {
    if (span.settle) return "settle";
    std::string time = span.until;
    if (span.since.starts_with("event")) time += " after " + span.since;
    std::string text;
    if (!span.every.empty()) text = fmt::format("every {} for {}", span.every, span.lasting);
    const std::string gap = text.empty() ? "" : " ";
    if (!span.when.empty())
        return text + gap + "until " + span.when + (time.empty() ? "" : " or " + time);
    if (time.empty()) return text.empty() ? "to the end" : text;
    if (span.since == "start") return "for " + time;
    return text + gap + "until " + time;
}

std::string spanWayText(const Span& span) {
    std::vector<std::string> pieces;
    if (!span.rungs.empty()) pieces.push_back(span.rungs);
    if (!span.engine.empty()) pieces.push_back(span.engine);
    if (!span.step.empty()) pieces.push_back("step " + span.step);
    if (!span.tolerance.empty()) pieces.push_back("tolerance " + span.tolerance);
    if (!span.keep.empty()) pieces.push_back("keep " + span.keep);
    return pieces.empty() ? std::string(asDrawn) : joined(pieces, ", ");
}

std::string spanText(const Span& span) { return spanEndText(span) + ": " + spanWayText(span); }

Result<Span> readSpanText(std::string_view text, const Span& like) {
    Span span;
    span.extra = like.extra;
    const std::size_t colon = std::min(text.find(':'), text.size());
    const std::string_view head = trimmed(text.substr(0, colon));
    if (head.empty()) return fault(text, 0, "when the span ends is missing: until 3m: all on 2");
    if (head == "settle") {
        span.settle = true;
    } else if (head != "to the end" && head != "end") {
        std::string_view end = head;
        if (const auto rest = behind(head, "every")) {
            const std::size_t lasting = rest->find(" for ");
            if (lasting == std::string_view::npos)
                return fault(text, 0, "how long it lasts each time is missing: every 10m for 20u");
            span.every = trimmed(rest->substr(0, lasting));
            std::string_view length = rest->substr(lasting + 5);
            const std::size_t until = length.find(" until ");
            end = until == std::string_view::npos ? "" : length.substr(until + 7);
            span.lasting = trimmed(length.substr(0, until));
            if (span.every.empty() || span.lasting.empty())
                return fault(text, 0, "write: every 10m for 20u, and where it ends before the plan does: until 50m");
        } else if (const auto length = behind(head, "for")) {
            if (length->empty()) return fault(text, 3, "how long it lasts is missing: for 3m");
            span.until = *length;
            span.since = "start";
            end = {};
        } else if (const auto time = behind(head, "until")) {
            end = *time;
            if (end.empty()) return fault(text, head.size(), "when the span ends is missing: until 3m");
        }
        if (!end.empty())
            if (auto sound = readEnd(end, span); !sound) return fault(text, 0, sound.error().message);
    }
    std::vector<std::string> rungs;
    for (std::size_t from = colon + 1; from < text.size();) {
        const std::size_t comma = std::min(text.find(',', from), text.size());
        const std::string_view piece = trimmed(text.substr(from, comma - from));
        const auto value = [&](std::string_view word) { return behind(piece, word); };
        if (piece.empty() || piece == asDrawn) {
        } else if (std::find(std::begin(engineWords), std::end(engineWords), piece) != std::end(engineWords)) {
            span.engine = piece;
        } else if (const auto step = value("step")) {
            span.step = *step;
        } else if (const auto tolerance = value("tolerance")) {
            span.tolerance = *tolerance;
        } else if (const auto keep = value("keep")) {
            span.keep = *keep == "all" ? "" : *keep;
        } else if (auto rule = readRungRule(piece)) {
            rungs.emplace_back(piece);
        } else {
            return fault(text, from, rule.error().message + "; or an engine, step 100n, tolerance 1e-5, keep nothing");
        }
        from = comma + 1;
    }
    span.rungs = joined(rungs, ", ");
    return span;
}

}  // namespace hedgerow

#include "runs/registry.h"

namespace hedgerow {

const Engine* findEngine(std::string_view name) {
    for (const auto& engine : engines())
        if (engine->name() == name) return engine.get();
    return nullptr;
}

const Engine& bestEngineFor(const Network& network) {
    for (const auto& engine : engines())
        if (engine->suits(network)) return *engine;
    return *engines().back();
}

const TraceFormat* findTraceFormat(std::string_view name) {
    for (const auto& format : traceFormats())
        if (format->name() == name) return format.get();
    return nullptr;
}

}  // namespace hedgerow

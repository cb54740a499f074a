#pragma once
// What several commands share: reading a project, settings of a run, messages, interrupts.

#include <memory>
#include <optional>
#include <string>

#include "commands.h"
#include "runs/run.h"

namespace hedgerow::cli {

Json toJson(const Error& error);
/// What is no UTF-8 is replaced: names in a project may be any bytes.
void printJson(const Json& json);
/// An error, as JSON on standard output or as a line on standard error.
void say(const Error& error, bool json);
/// Loads a project or reports why not.
std::shared_ptr<const Project> load(const std::string& path, bool json, bool allowOutside = false);
/// Nothing after a message.
std::optional<RunSettings> settingsOf(const RunOptions& options);
/// The project with the tolerance that was asked for in all its plans.
std::shared_ptr<const Project> withTolerance(std::shared_ptr<const Project> project, const RunOptions& options);

/// From here on an interrupt is noted.
void listenForInterrupts();
bool wasInterrupted();

}  // namespace hedgerow::cli

#pragma once
// Other programs of the machine: run to their end, with what they say.

#include <string>
#include <vector>

#include "base/cancel.h"
#include "base/result.h"

namespace hedgerow {

struct ProcessOutcome {
    int code = 0;  ///< what it ended with; -1 where a signal ended it
    std::string out = {}, err = {};
};

/// Runs a program and waits for its end. Nothing goes through a shell, and its standard input is empty.
/// @param command  the program, found along PATH, and its arguments  @param seconds  the longest it may take
/// Errors: it is not there or cannot be started; it takes too long or was stopped (it is killed then); it says more than 64 MB.
Result<ProcessOutcome> runProcess(const std::vector<std::string>& command, double seconds, const CancelToken& cancel);

/// Where a program lies along PATH; "" where there is none of the name.
std::string programOnPath(const std::string& name);

}  // namespace hedgerow

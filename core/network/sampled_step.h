#pragma once
// What a part of the control does at each sample of its task.

#include <functional>
#include <memory>
#include <span>

#include "base/memory.h"
#include "base/result.h"

namespace hedgerow {

/// What a sampled part does. It is made anew for each run and keeps its own memory.
class SampledStep {
public:
    virtual ~SampledStep() = default;
    /// Whether outputs depend on inputs of earlier samples only, so that the part may close a loop.
    virtual bool delays() const { return false; }
    /// The outputs before the first sample has been computed.
    virtual void before(std::span<double> outputs) const {
        for (double& value : outputs) value = 0;
    }
    /// Writes the outputs of this sample. The inputs are those of this sample; a part that delays must not look at
    /// them here. An error ends the run.
    virtual Status output(std::span<const double> inputs, std::span<double> outputs) = 0;
    /// Called after the outputs of all parts of the task, for what is to be remembered.
    virtual void remember(std::span<const double> /*inputs*/) {}
    /// Visits what it remembers.
    virtual void memory(Memory& /*memory*/) {}
};

/// Makes the step of a part. @param period  s, between two samples
using StepMaker = std::function<std::unique_ptr<SampledStep>(double period)>;

}  // namespace hedgerow

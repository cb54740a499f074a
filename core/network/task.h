#pragma once
// Tasks: parts of the control that run together, one after the other, at equally spaced instants.

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "network/sampled_step.h"
#include "network/signal_block.h"

namespace hedgerow {

/// A step of a task with its joints.
struct TaskStep {
    /// Where an input comes from: an output of the same task, or an input of the task; both -1 reads as 0.
    struct Origin {
        int local = -1;  ///< index among the outputs of all steps
        int input = -1;  ///< index among the inputs of the task
    };
    StepMaker maker;
    std::string part;
    std::vector<Origin> inputs;
    int firstOutput = 0, outputCount = 0;  ///< among the outputs of all steps
};

struct TaskSetting {
    double period = 0;  ///< s
    double offset = 0;  ///< s, of the first sample
    double delay = 0;   ///< s, from a sample to its outputs
};

/// All steps of one task as one block: samples its inputs, goes through the steps in order, and shows the outputs
/// after the delay of the task.
class TaskBlock final : public SignalBlock {
public:
    /// @param steps  in the order in which they run
    TaskBlock(const TaskSetting& setting, std::vector<TaskStep> steps, std::size_t outputs);
    std::unique_ptr<SignalProcess> process() const override;
    bool follows() const override { return false; }
    const TaskSetting& setting() const { return setting_; }
    const std::vector<TaskStep>& steps() const { return steps_; }

private:
    TaskSetting setting_;
    std::vector<TaskStep> steps_;
    std::size_t outputs_;
};

/// The numbers of steps in an order in which what a step reads comes before it, or the parts of a loop in which
/// nothing delays.
struct TaskOrder {
    std::vector<std::size_t> order;
    std::vector<std::string> loop;
};
/// Leaves the order of steps that do not read each other as it is.
TaskOrder orderSteps(const std::vector<TaskStep>& steps);

}  // namespace hedgerow

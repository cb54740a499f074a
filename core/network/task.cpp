#include "network/task.h"

#include <algorithm>
#include <deque>

namespace hedgerow {

namespace {

class TaskProcess final : public SignalProcess {
public:
    TaskProcess(const TaskSetting& setting, const std::vector<TaskStep>& steps, std::size_t outputs)
        : period_(toFine(static_cast<long double>(setting.period))),
          offset_(toFine(static_cast<long double>(setting.offset))),
          delay_(toTicks(setting.delay)),
          fresh_(outputs, 0.0) {
        for (const TaskStep& step : steps) steps_.push_back({&step, step.maker(setting.period), {}});
    }

    std::vector<double> lasting() const override {
        MemoryWriter all;
        putLasting(all);
        return all.take();
    }
    void takeUp(std::span<const double> lasting) override {
        MemoryReader all(lasting);
        taken_ = takeLasting(all, lasting.size());
    }

    void before(std::span<double> outputs) override {
        for (Step& step : steps_)
            if (!taken_) step.step->before(outputsOf(step));
        std::copy(fresh_.begin(), fresh_.end(), outputs.begin());
    }
    Status advance(Tick t, std::span<const double> inputs, std::span<double> outputs) override {
        if (t >= toTick(offset_ + sample_ * period_)) {
            if (auto done = sample(inputs); !done) return done;
            waiting_.push_back({t + delay_, fresh_});
            while (toTick(offset_ + sample_ * period_) <= t) ++sample_;
        }
        for (; !waiting_.empty() && waiting_.front().at <= t; waiting_.pop_front())
            std::copy(waiting_.front().values.begin(), waiting_.front().values.end(), outputs.begin());
        return {};
    }
    Tick next(Tick) const override {
        const Tick sample = toTick(offset_ + sample_ * period_);
        return waiting_.empty() ? sample : std::min(sample, waiting_.front().at);
    }

    bool takesAnySize() const override { return true; }
    std::vector<double> memory() const override {
        MemoryWriter all;
        all.put(toTick(offset_ + (sample_ - 1) * period_)), all.put(sample_ > 0 ? 1.0 : 0.0);
        putLasting(all);
        all.put(static_cast<double>(waiting_.size()));
        for (const Waiting& waiting : waiting_) {
            all.put(waiting.at);
            for (const double value : waiting.values) all.put(value);
        }
        return all.take();
    }
    void recall(std::span<const double> memory) override {
        MemoryReader all(memory);
        const Tick last = all.instant();
        const bool sampled = all.truth();
        sample_ = sampled ? std::max<FineTime>(0, (toFine(last) - offset_) / period_ - 1) : FineTime{0};
        while (sampled && toTick(offset_ + sample_ * period_) <= last) ++sample_;
        if (!takeLasting(all, memory.size())) return;
        waiting_.clear();
        for (std::size_t n = std::min(all.count(), memory.size()); n > 0; --n) {
            Waiting waiting{all.instant(), fresh_};
            for (double& value : waiting.values) value = all.number();
            waiting_.push_back(std::move(waiting));
        }
    }

private:
    struct Step {
        const TaskStep* plan;
        std::unique_ptr<SampledStep> step;
        std::vector<double> inputs;
    };
    /// Outputs that are not shown yet.
    struct Waiting {
        Tick at;
        std::vector<double> values;
    };

    /// The last outputs, and what the steps remember.
    void putLasting(MemoryWriter& all) const {
        all.put(static_cast<double>(fresh_.size()));
        for (const double value : fresh_) all.put(value);
        for (const Step& step : steps_) {
            const std::vector<double> numbers = step.step->memory();
            all.put(static_cast<double>(numbers.size()));
            for (const double value : numbers) all.put(value);
        }
    }
    /// @param most  numbers there can be  @return whether they are of this task
    bool takeLasting(MemoryReader& all, std::size_t most) {
        if (all.count() != fresh_.size()) return false;
        for (double& value : fresh_) value = all.number();
        for (Step& step : steps_) {
            std::vector<double> numbers(std::min(all.count(), most));
            for (double& value : numbers) value = all.number();
            // A part whose memory has another size now, a longer delay for instance, starts anew.
            if (numbers.size() == step.step->memory().size()) step.step->recall(numbers);
        }
        return true;
    }

    std::span<double> outputsOf(const Step& step) {
        return {fresh_.data() + step.plan->firstOutput, static_cast<std::size_t>(step.plan->outputCount)};
    }
    Status sample(std::span<const double> inputs) {
        for (Step& step : steps_) {
            read(step, inputs);
            if (auto done = step.step->output(step.inputs, outputsOf(step)); !done) {
                Error error = done.error();
                if (error.part.empty()) error.part = step.plan->part;
                return error;
            }
        }
        for (Step& step : steps_) {
            if (step.step->delays()) read(step, inputs);
            step.step->remember(step.inputs);
        }
        return {};
    }

    void read(Step& step, std::span<const double> inputs) {
        step.inputs.clear();
        for (const TaskStep::Origin& origin : step.plan->inputs)
            step.inputs.push_back(origin.local >= 0   ? fresh_[static_cast<std::size_t>(origin.local)]
                                  : origin.input >= 0 ? inputs[static_cast<std::size_t>(origin.input)]
                                                      : 0.0);
    }

    FineTime period_, offset_;
    Tick delay_;
    FineTime sample_ = 0;  ///< number of the next one
    bool taken_ = false;   ///< it goes on from the memory of an earlier run
    std::vector<double> fresh_;
    std::vector<Step> steps_;
    std::deque<Waiting> waiting_;
};

}  // namespace

TaskBlock::TaskBlock(const TaskSetting& setting, std::vector<TaskStep> steps, std::size_t outputs)
    : setting_(setting), steps_(std::move(steps)), outputs_(outputs) {}

std::unique_ptr<SignalProcess> TaskBlock::process() const {
    return std::make_unique<TaskProcess>(setting_, steps_, outputs_);
}

TaskOrder orderSteps(const std::vector<TaskStep>& steps) {
    TaskOrder result;
    std::vector<char> delays, done(steps.size(), 0);
    for (const TaskStep& step : steps) delays.push_back(step.maker(1.0)->delays());
    std::vector<std::size_t> writer;  // of each output
    for (std::size_t i = 0; i < steps.size(); ++i)
        writer.insert(writer.end(), static_cast<std::size_t>(steps[i].outputCount), i);
    const auto ready = [&](std::size_t i) {
        return delays[i] || std::all_of(steps[i].inputs.begin(), steps[i].inputs.end(), [&](const TaskStep::Origin& o) {
                   return o.local < 0 || done[writer[static_cast<std::size_t>(o.local)]];
               });
    };
    while (result.order.size() < steps.size()) {
        std::size_t next = 0;
        while (next < steps.size() && (done[next] || !ready(next))) ++next;
        if (next == steps.size()) {
            for (std::size_t i = 0; i < steps.size(); ++i)
                if (!done[i]) result.loop.push_back(steps[i].part);
            return result;
        }
        done[next] = 1;
        result.order.push_back(next);
    }
    return result;
}

}  // namespace hedgerow

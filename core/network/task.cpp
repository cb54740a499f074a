#include "network/task.h"

#include <algorithm>
#include <deque>

namespace hedgerow {

namespace {

class TaskProcess final : public SignalProcess {
public:
    TaskProcess(const TaskSetting& setting, const std::vector<TaskStep>& steps, std::size_t outputs)
        : period_(toFinePeriod(static_cast<long double>(setting.period))),
          offset_(toFine(static_cast<long double>(setting.offset))),
          delay_(toTicks(setting.delay)),
          fresh_(outputs, 0.0) {
        for (const TaskStep& step : steps) steps_.push_back({&step, step.maker(setting.period), {}});
    }

    void before(std::span<double> outputs) override {
        for (Step& step : steps_)
            if (!taken_) step.step->before(outputsOf(step));
        std::copy(fresh_.begin(), fresh_.end(), outputs.begin());
    }
    Status advance(Tick t, std::span<const double> inputs, std::span<double> outputs) override {
        if (t >= toTick(offset_ + sample_ * period_)) {
            if (auto done = sample(inputs); !done) return done;
            waiting_.push_back({later(t, delay_), fresh_});
            goPast(t);
        }
        for (; !waiting_.empty() && waiting_.front().at <= t; waiting_.pop_front())
            std::copy(waiting_.front().values.begin(), waiting_.front().values.end(), outputs.begin());
        return {};
    }
    Tick next(Tick) const override {
        const Tick sample = toTick(offset_ + sample_ * period_);
        return waiting_.empty() ? sample : std::min(sample, waiting_.front().at);
    }

    bool lasts() const override { return true; }
    Recurrences recurrences() const override { return {Recurrence::every(period_)}; }
    void memory(Memory& all) override {
        if (all.keepsInstants()) instants(all);
        all.together([&](Memory& outputs) {
            outputs.numbers("outputs", fresh_);
            if (outputs.reading()) taken_ = true;
        });
        // A part whose memory has another size now, a longer delay for instance, starts anew.
        for (Step& step : steps_)
            all.inside(step.plan->part, [&](Memory& own) {
                own.together([&](Memory& memory) { step.step->memory(memory); });
            });
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

    /// When it sampled last, and the outputs that are not shown yet.
    void instants(Memory& all) {
        constexpr std::size_t mostWaiting = std::size_t{1} << 20;
        Tick last = toTick(offset_ + (sample_ - 1) * period_);
        bool sampled = sample_ > 0;
        std::vector<Tick> due;
        std::vector<double> values;
        for (const Waiting& waiting : waiting_) {
            due.push_back(waiting.at);
            values.insert(values.end(), waiting.values.begin(), waiting.values.end());
        }
        all.flag("sampled", sampled), all.instant("last sample", last);
        all.instants("due", due, mostWaiting), all.list("waiting", values, mostWaiting * (fresh_.size() + 1));
        if (!all.reading()) return;
        sample_ = 0;
        if (sampled) goPast(last);
        waiting_.clear();
        if (values.size() != due.size() * fresh_.size()) return;
        for (std::size_t i = 0; i < due.size(); ++i) {
            const auto first = values.begin() + static_cast<std::ptrdiff_t>(i * fresh_.size());
            waiting_.push_back({due[i], {first, first + static_cast<std::ptrdiff_t>(fresh_.size())}});
        }
    }

    /// The next sample is the first one after `t`.
    void goPast(Tick t) {
        sample_ = std::max(sample_, (toFine(t) - offset_) / period_ - 1);
        while (toTick(offset_ + sample_ * period_) <= t) ++sample_;
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

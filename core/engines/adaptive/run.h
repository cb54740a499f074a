#pragma once
// One run of one network by the adaptive engine: from event to event, step by step.

#include <optional>

#include "engines/adaptive/switching.h"
#include "engines/implicit/recorder.h"
#include "network/clock.h"

namespace hedgerow::adaptive {

class Run {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel,
        const Tableau& tableau);
    RunSummary solve();

private:
    bool start();
    /// Up to the next instant that is known, or an event before it.
    void travel(Tick until);
    bool followed(Tick length);
    bool tryStep(Tick length, bool atBreak);
    /// The first guard that ends within the last attempt: part of the step, and index; nothing when all hold.
    std::optional<std::pair<double, std::size_t>> firstCrossing();
    enum class Landing { ends, holds, repeat };  ///< what the guard does where the step ends, or no step
    Landing landOn(const std::pair<double, std::size_t>& crossing, Tick& length);
    bool tryLanding(Tick length);
    void repeat(Outcome outcome, Tick length);
    void accept(Tick length);
    bool goOn(const Standing& from);
    bool begin(const std::string& what);
    void firstPoint();
    void crossed(std::size_t guard);
    bool turnGates(std::vector<int>& wanted, std::string& what);
    void arrived();
    void enter(const std::vector<int>& wanted, const std::string& what);
    void showLogic();
    Tick nextTimeout() const;
    void fail(Error error);
    void easeIn();
    void takeOver();
    void failStep(Outcome outcome);

    const Network& network_;
    const RunRequest& request_;
    RunSink& sink_;
    const CancelToken& cancel_;
    System system_;
    Scales scales_;
    const Tableau& tableau_;
    Stepper stepper_;
    Switching switching_;
    Recorder recorder_;
    Clock clock_;
    Instant now_;
    implicit::Values allowed_;
    std::int64_t shortened_ = 0;  ///< steps, for their course
    double strayed_ = 0;          ///< by how much the last attempt was too long for its course
    Tick t_ = 0, step_ = 0, longest_ = 0, beforeEvent_ = 0;
    std::vector<char> gateOn_;
    std::vector<Tick> entered_;
    std::int64_t signalVersion_ = -1;
    std::size_t instant_ = 0;
    Tick lastEvent_ = -1;
    int sameInstant_ = 0;
    std::int64_t steps_ = 0, rejected_ = 0, events_ = 0, crossings_ = 0, gateEvents_ = 0;
    std::vector<std::int64_t> eventsByElement_;
    double secondsEvents_ = 0, secondsStoring_ = 0;
    std::optional<Error> error_;
    bool stopped_ = false;
    bool freshEvent_ = false;  ///< no step was taken since it
    Stopwatch watch_;
};

}  // namespace hedgerow::adaptive

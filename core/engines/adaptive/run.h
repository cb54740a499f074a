#pragma once
// One run of one network by the adaptive engine: from event to event, step by step.

#include <optional>

#include "engines/adaptive/switching.h"
#include "engines/implicit/recorder.h"
#include "network/switching_loop.h"

namespace hedgerow::adaptive {

class Run final : public SwitchingLoop {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel,
        const Tableau& tableau);
    Tick now() const override { return pending_ ? pending_->looked : t_; }

private:
    /// What is made for the equations of a network.
    struct Machinery {
        Machinery(const Network& network, const RunRequest& request, RunSink& sink, const Tableau& tableau);
        System system;
        Scales scales;
        Stepper stepper;
        Switching switching;
        Recorder recorder;
    };

    // What the loop asks for.
    bool begin(const std::vector<double>& states, const std::vector<int>& segments) override;
    void showStart() override;
    void move(Tick until) override;
    void leave() override { pending_.reset(), lastEvent_ = -1, strayed_ = 0; }
    void stopHere(Tick asked) override;
    void takeNetwork() override;
    std::vector<double> states() const override;
    const std::vector<int>& segments() const override { return machinery_->switching.segments(); }
    double read(int column) const override { return now_.z[static_cast<std::size_t>(column)]; }
    double scaleOf(const StateInfo& state) const override;
    double startTolerance() const override { return 1e-3; }  // what parasitics take is no contradiction
    bool full() const override { return recorder().full(); }
    void flush() override;
    Result<std::vector<double>> operatingPoint(const Network& of) const override;
    void describe(RunSummary& summary) const override;

    /// A step that was made and not taken yet, with the guard that ends where it does.
    struct Pending {
        Tick length = 0;
        bool shortened = false;  ///< it ends before the step that was wanted would have
        std::optional<std::size_t> crossed = {};
        Tick looked = 0;  ///< where the simulation stands within it
    };
    Tick nextInstant() const;
    std::optional<Pending> nextStep(Tick until);
    void take(const Pending& step);
    bool followed(Tick length);
    bool tryStep(Tick length, bool atBreak);
    /// The first guard that ends within the last attempt: part of the step, and index; nothing when all hold.
    std::optional<std::pair<double, std::size_t>> firstCrossing();
    enum class Landing { ends, holds, repeat };  ///< what the guard does where the step ends, or no step
    Landing landOn(const std::pair<double, std::size_t>& crossing, Tick& length);
    bool tryLanding(Tick length);
    void repeat(Outcome outcome, Tick length);
    void accept(Tick length);
    void crossed(std::size_t guard);
    std::string describeTurn(const Turned& turned) const;
    void arrived();
    void enter(const std::vector<int>& wanted, const std::string& what);
    void easeIn();
    void takeOver();
    void failStep(Outcome outcome);

    System& system() const { return machinery_->system; }
    Scales& scales() const { return machinery_->scales; }
    Stepper& stepper() const { return machinery_->stepper; }
    Switching& switching() const { return machinery_->switching; }
    Recorder& recorder() const { return machinery_->recorder; }

    const Tableau& tableau_;
    std::unique_ptr<Machinery> machinery_;
    Instant now_;
    std::optional<Pending> pending_;
    implicit::Values allowed_;
    std::int64_t shortened_ = 0;  ///< steps, for their course
    double strayed_ = 0;          ///< by how much the last attempt was too long for its course
    Tick step_ = 0, longest_ = 0, beforeEvent_ = 0;
    std::int64_t signalVersion_ = -1;
    std::size_t instant_ = 0;
    Tick lastEvent_ = -1;
    int sameInstant_ = 0;
    std::int64_t steps_ = 0, rejected_ = 0;
    std::vector<std::int64_t> stepsByState_;  ///< ruled by it
    /// Of machineries of other networks.
    struct Counts {
        std::int64_t iterations = 0, factorisations = 0, evaluations = 0, points = 0;
    };
    Counts counts() const;
    Counts earlier_;
    double secondsEvents_ = 0, secondsStoring_ = 0;
    int sinceProgress_ = 0;
    bool freshEvent_ = false;  ///< no step was taken since it
};

}  // namespace hedgerow::adaptive

#pragma once
// One run of one network by the exact engine: from event to event.

#include <optional>

#include "engines/exact/round.h"
#include "network/clock.h"

namespace hedgerow::exact {

template <class Real>
class Run {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel);
    RunSummary solve();

private:
    // Start.
    void start();
    void chargeSources();
    void refreshSources();
    bool startsAsGiven(const Vector<Real>& given);

    // Events.
    void goOn(const Standing& from);
    void seeStates();
    void scheduled();
    void crossing(int guard);
    void expired();
    void advanceClock();
    void turnGates(Segments& wanted, Cause& cause);
    void handOver();
    void showLogic();
    void enter(const Segments& wanted, const Cause& cause);
    void entered(Mode<Real>* mode);
    void countCrossing(std::size_t element);
    void chattering();
    void fail(Error error);
    Tick nextTimeout() const;
    Tick upToFading(Tick next);
    void fade(Mode<Real>* to);

    // The general way.
    void general(Tick next);
    int travel(Tick next);
    int piece(Tick length);
    int walk(Tick length);
    Tick expectedEnd(Tick length) const;
    int endWithin(Tick length);
    bool guardsHold(Tick length);
    void acceptHeld(Tick length);
    void accept(const Vector<Real>& after, Tick length);
    void flushWay();

    // The short way.
    bool alongLegs(Tick next);
    bool replay(Leg<Real>& leg, Tick next);
    bool alongRounds(Leg<Real>& leg);
    void seeRound(const Round<Real>& round, int count);
    void store(Leg<Real>& leg, const Vector<Real>& end, Tick length);
    void arrive(Leg<Real>& leg);

    void finish(RunSummary& summary);

    const Network& network_;
    const RunRequest& request_;
    RunSink& sink_;
    const CancelToken& cancel_;
    Frame<Real> frame_;
    Magnitudes<Real> magnitudes_;
    Commutation<Real> commutation_;
    Recorder<Real> recorder_;
    Legs<Real> legs_;
    Clock clock_;

    Vector<Real> y_, after_, slope_, legOut_;
    Vector<Real> start_, end_;  ///< of a step: values of the guards, then their slopes
    std::vector<char> risen_;   ///< per guard: it was clearly above its noise since the stretch began
    bool startKnown_ = false;   ///< whether those at its start are of the present y
    Matrix<Real> polynomials_;  ///< of the guards, one per row
    std::vector<Real> polynomial_;
    Stretch<Real> stretch_;    ///< the last one that was gone the general way
    RoundPoints roundPoints_;  ///< of the last rounds
    Mode<Real>* mode_ = nullptr;
    Tick t_ = 0, inModeSince_ = 0;
    Segments leaving_;  ///< in which another network goes on, where they are not those of the mode
    Mode<Real>* fadesTo_ = nullptr;  ///< what takes over at the end of the interval, where nothing else ends it
    Clock::Sense sense_;
    std::vector<char> gateOn_;        ///< per element
    std::vector<std::size_t> logic_;  ///< the elements that drive a signal
    std::vector<Tick> entered_;       ///< per element: when it came into its segment
    Vector<Real> wayStart_;           ///< where the stretch begins that is not stored yet
    Tick wayLength_ = 0;
    int modeGeneration_ = 0;
    std::size_t instant_ = 0;  ///< the next of the instants asked for
    std::int64_t signalVersion_ = -1;
    bool stopped_ = false;
    unsigned looks_ = 0;
    std::optional<Error> error_;

    Tick lastEvent_ = -1;
    int sameInstant_ = 0;
    std::vector<std::pair<Tick, int>> recent_;  ///< the latest located events, in a ring
    std::size_t recentAt_ = 0;
    std::vector<std::int64_t> eventsByElement_;
    std::int64_t events_ = 0, gateEvents_ = 0, crossings_ = 0, timeouts_ = 0, steps_ = 0, descents_ = 0, replayed_ = 0,
                 rounds_ = 0;
    double secondsGeneral_ = 0.0, secondsEvents_ = 0.0, secondsLegs_ = 0.0;
    Stopwatch watch_;
};

}  // namespace hedgerow::exact

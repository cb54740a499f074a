#pragma once
// One run of one network by the exact engine: from event to event.

#include <optional>

#include "engines/exact/period_map.h"
#include "network/switching_loop.h"

namespace hedgerow::exact {

/// What is built of the equations of a network and outlasts a change of values that leaves them as they are.
template <class Real>
struct Machinery {
    Machinery(const Network& of, const RunRequest& request, RunSink& sink, const CancelToken& cancel)
        : network(of),
          layout(of),
          scales(layout),
          commutation(layout, scales, !request.reference),
          recorder(layout, request, sink, scales, cancel),
          maps(layout, scales, recorder) {}
    /// What it took so far.
    struct Counts {
        std::int64_t configurations = 0, subnetworksSolved = 0, revisits = 0, maps = 0, products = 0, points = 0,
                     bytes = 0, cacheBytes = 0;
        double secondsBuilding = 0, secondsMaps = 0, secondsStoring = 0;
        Counts operator+(const Counts& other) const;
    };
    Counts counts() const;

    const Network& network;
    StateLayout<Real> layout;
    Scales<Real> scales;
    Commutation<Real> commutation;
    Recorder<Real> recorder;
    IntervalMaps<Real> maps;
};

template <class Real>
class Run final : public SwitchingLoop {
public:
    Run(const Network& network, const RunRequest& request, RunSink& sink, const CancelToken& cancel);
    Tick now() const override { return ahead_ ? ahead_->t : t_; }
    Snapshot snapshot() const override {
        return ahead_ && ahead_->snapshot ? *ahead_->snapshot : SwitchingLoop::snapshot();
    }

private:
    // What the loop asks for.
    bool begin(const std::vector<double>& states, const std::vector<int>& segments) override;
    void showStart() override {}  // entering does
    void move(Tick until) override;
    void stopHere(Tick asked) override;
    void leave() override;
    void takeNetwork() override;
    void makeRoom();
    std::vector<double> states() const override;
    const std::vector<int>& segments() const override { return mode_ ? mode_->segments : first_; }
    double read(int column) const override { return static_cast<double>(mode_->configuration().read(column, y_)); }
    double scaleOf(const StateInfo& state) const override;
    double startTolerance() const override;
    bool full() const override { return recorder().full(); }
    Result<std::vector<double>> operatingPoint(const Network& of) const override;
    void describe(RunSummary& summary) const override;

    // Start.
    void chargeSources();
    void refreshSources();
    void seeStates();

    // Events.
    void scheduled();
    void crossing(int guard);
    void enter(const Segments& wanted, const Cause& cause);
    void entered(Mode<Real>* mode);
    void countCrossing(std::size_t element);
    void chattering();
    Tick upToFading(Tick next);
    void fade(Mode<Real>* to);

    // The general way.
    Tick nextKnown() const;
    bool lastsUntil(Tick next, Tick until);
    bool looksAhead(Tick until);
    void lookThroughPeriod(Tick until);
    void stepToEvent(Tick next);
    int locateEvents(Tick next);
    int tryStep(Tick length);
    int bracketCrossing(Tick length);
    Tick expectedEnd(Tick length) const;
    int endWithin(Tick length);
    bool guardsHold(Tick length);
    void acceptHeld(Tick length);
    void accept(const Vector<Real>& after, Tick length);
    void flushWay();

    // The short way.
    enum class Way {
        none,
        gone,         ///< as far as it went; where the simulation stands within an interval, ahead_ says so
        insidePeriod  ///< `until` lies within a period that a period map goes through as a whole
    };
    Way alongIntervals(Tick until);
    bool replay(IntervalMap<Real>& map, Tick next);
    Way alongPeriods(IntervalMap<Real>& map, Tick until);
    void showPeriods(const PeriodMap<Real>& periodMap, int count);
    void store(IntervalMap<Real>& map, const Vector<Real>& end, Tick length);
    void arrive(IntervalMap<Real>& map);
    void arriveIn(Mode<Real>* mode);

    StateLayout<Real>& stateLayout() const { return machinery_->layout; }
    Scales<Real>& scales() const { return machinery_->scales; }
    Commutation<Real>& commutation() const { return machinery_->commutation; }
    Recorder<Real>& recorder() const { return machinery_->recorder; }
    IntervalMaps<Real>& maps() const { return machinery_->maps; }

    std::vector<std::unique_ptr<Machinery<Real>>> machineries_;  ///< the latest used last
    Machinery<Real>* machinery_ = nullptr;
    typename Machinery<Real>::Counts retired_;  ///< of those that had to go

    Vector<Real> y_, after_, slope_, mapOut_;
    Vector<Real> start_, end_;  ///< of a step: values of the guards, then their slopes
    std::vector<char> risen_;   ///< per guard: it was clearly above its noise since the interval began
    bool startKnown_ = false;   ///< whether those at its start are of the present y
    Matrix<Real> polynomials_;  ///< of the guards, one per row
    std::vector<Real> polynomial_;
    EventInterval<Real> interval_;  ///< the last one that was gone the general way
    PeriodPoints periodPoints_;     ///< of the periods gone last
    Mode<Real>* mode_ = nullptr;
    Segments first_;  ///< before there is a mode
    Tick inModeSince_ = 0;
    Mode<Real>* fadesTo_ = nullptr;  ///< what takes over at the end of the interval, where nothing else ends it
    Vector<Real> wayStart_;          ///< where the interval begins that is not stored yet
    Tick wayLength_ = 0;
    int modeGeneration_ = 0;
    std::size_t instant_ = 0;  ///< the next of the instants asked for
    std::int64_t signalVersion_ = -1;
    unsigned looks_ = 0;

    /// Where the simulation stands within an interval that ends later: the interval is still to be gone as a whole.
    struct Ahead {
        Tick t = 0;
        Vector<Real> y = {};
        std::optional<Snapshot> snapshot = {};  ///< where events lie between
    };
    std::optional<Ahead> ahead_;
    bool peeking_ = false;  ///< nothing is stored, and nothing learnt
    /// Rounds that were gone and not shown to the recorder yet: it looks at every so many, however they are cut up.
    struct OpenPeriods {
        const PeriodMap<Real>* periodMap = nullptr;
        std::size_t count = 0;
        PeriodPoints last = {};  ///< of the last of them
    } open_;
    std::int64_t periodsTried_ = -1;  ///< after so many events there was none that fits

    Tick lastEvent_ = -1;
    int sameInstant_ = 0;
    std::vector<std::pair<Tick, int>> recent_;  ///< the latest located events, in a ring
    std::size_t recentAt_ = 0;
    std::int64_t steps_ = 0, descents_ = 0, replayed_ = 0, periods_ = 0;
    double secondsGeneral_ = 0.0, secondsEvents_ = 0.0, secondsIntervals_ = 0.0;
};

}  // namespace hedgerow::exact

#pragma once
// Legs: the way from one event to the next, as one matrix.
//
// In a converter the same stretches come again and again: the same configuration for the same length of time. Such a
// stretch is a linear map from the values at its start to everything that is asked of it: that no guard can end within
// it, that the stored lines still are straight enough, the stored points, and the values at its end. A leg holds these
// rows; going along it is one product. Where one of its conditions fails, the engine takes the general way.
//
// A leg is `length` long plus a tail of at most `slack`, which is a Taylor polynomial: it ends at a scheduled instant
// (the tail is known), or where one guard ends (the tail is the root of the guard's polynomial).

#include <cstdint>
#include <limits>
#include <memory>
#include <unordered_map>
#include <vector>

#include "engines/exact/conditions.h"
#include "engines/exact/recorder.h"
#include "network/clock.h"

namespace hedgerow::exact {

/// First tau in [0, h] where the polynomial falls below zero, or -1: Newton steps kept within a bisection, to the last
/// digit, since what is left of a guard may be multiplied by an off-resistance in the next configuration.
/// @param c      coefficients by rising power
/// @param guess  where to begin, or less than zero
template <class Real>
Real firstRoot(const Real* c, int order, Real h, Real precision = std::numeric_limits<Real>::epsilon(),
               Real guess = -1);

/// A guard that ends at the same instant as the one that ends a leg: the other diode of a bridge.
template <class Real>
struct Companion {
    int guard;
    Real least;  ///< what it may be below zero at that instant, and as much above
};

/// Where the guard of a tail ends, or -1: not within the slack, or a companion ends earlier.
/// @param polynomials  of the guard, then of its companions, by rising power
template <class Real>
Real tailCrossing(const Real* polynomials, int order, Real slack, const std::vector<Companion<Real>>& companions,
                  Real guess);

template <class Real>
class Round;

template <class Real>
struct Leg {
    Leg();
    ~Leg();
    Mode<Real>* mode = nullptr;
    Mode<Real>* to = nullptr;         ///< what came of its end last time
    std::uint64_t gates = 0;          ///< state of the gates at its end last time
    std::vector<std::size_t> turned;  ///< elements whose gate turned there
    Tick length = 0, slack = 0;
    int crossing = -1;  ///< the guard that ends it, or -1 for a scheduled end
    std::vector<Companion<Real>> companions;
    int order = 1;                  ///< of the tail
    std::vector<Tick> points;       ///< offsets of the points stored on the way
    Conditions<Real> conditions;    ///< that no guard ends on the way, and lines bend no further than they may
    Matrix<Real> rows;              ///< points, tail, polynomials of guards: below each other
    Leg* next = nullptr;            ///< the leg that followed last time
    std::uint64_t signalState = 0;  ///< of all signals at its end last time, and where they are stored
    std::uint32_t signalSet = 0;
    int visits = 0, misses = 0;
    int rounds = 0;      ///< it was gone along in besides
    int generation = 0;  ///< of the recorder, when it was made
    bool retired = false;
    bool fades = false;  ///< modes of motion have died out at its end: nothing else happens there
    std::unique_ptr<Round<Real>> round;  ///< the whole period that begins with this leg
    int roundAt = 4;                     ///< visits at which to try to make one
    int roundPatience = 16;              ///< visits to wait after one that was of no use
    bool yielded = false;                ///< a round that begins elsewhere in the period was given the first chance

    Eigen::Index tailAt() const { return rows.cols() * static_cast<Eigen::Index>(points.size()); }
    std::size_t bytes() const { return sizeof(Real) * static_cast<std::size_t>(rows.size() + conditions.numbers()); }
    Eigen::Index polynomialAt() const { return tailAt() + rows.cols() * (order + 1); }
};

/// What happened between two events, for the decision whether it becomes a leg.
template <class Real>
struct Stretch {
    Mode<Real>* mode = nullptr;
    Vector<Real> start, end;
    Tick length = 0;
    int crossing = -1;
    bool repeats = false;                ///< the control has a period, many of which are to come
    bool fades = false;                  ///< to where modes of motion have died out
    bool periodic = false;               ///< from one edge of a periodic control to the next
    std::uint64_t phase = 0;             ///< of the clock, at its start
    const Leg<Real>* instead = nullptr;  ///< of this leg, which came last time and did not fit
};

template <class Real>
class Legs {
public:
    Legs(const Frame<Real>& frame, Magnitudes<Real>& magnitudes, Recorder<Real>& recorder)
        : frame_(frame), magnitudes_(magnitudes), recorder_(recorder) {}

    /// A leg of this mode that fits an interval of this length, or nullptr.
    /// @param phase  of the clock, at its start
    Leg<Real>* scheduled(const Mode<Real>* mode, Tick length, std::uint64_t phase);
    /// The leg that ended by a guard last time in this mode, or nullptr.
    Leg<Real>* crossing(const Mode<Real>* mode);
    /// The leg that came last time after the one that was walked last, or nullptr.
    Leg<Real>* predicted() const { return last_ && last_->next && !last_->next->retired ? last_->next : nullptr; }
    /// Takes note that a leg, or none (nullptr), was walked.
    void walked(Leg<Real>* leg) {
        if (last_ && leg) last_->next = leg;
        last_ = leg;
    }
    /// Takes note of a stretch; makes it a leg when it came often enough. @return the leg, or nullptr
    Leg<Real>* note(const Stretch<Real>& stretch);
    /// Takes note of a visit, or that the conditions of a leg failed. What no longer suits is made anew.
    void visited(Leg<Real>& leg);
    void missed(Leg<Real>& leg);
    void renew(Leg<Real>& leg) { retire(leg, wasWorthwhile(leg) ? sightsNeeded() : 0); }
    /// Makes the period that begins with this leg a round, when nothing but legs with scheduled ends is in it.
    void makeRound(Leg<Real>& leg, const Clock& clock);
    void dropRound(Leg<Real>& leg);
    void clear();

    /// Periods that must be to come for a leg that is seen in each of them to be worth its while.
    int paysAfter() const { return 4 * sightsNeeded(); }
    std::int64_t built() const { return built_; }
    double secondsBuilding() const { return seconds_; }

private:
    struct Key {
        const Mode<Real>* mode;
        int crossing;  ///< -2 for lengths to the tick, -1 for lengths with a tail, else the guard
        Tick grain, grains;
        std::uint64_t phase;  ///< of the control: the same configuration may come twice in a period, at other values
        bool operator==(const Key&) const = default;
    };
    struct KeyHash {
        std::size_t operator()(const Key& key) const {
            return std::hash<const void*>()(key.mode) ^ key.phase ^
                   static_cast<std::size_t>((static_cast<std::uint64_t>(key.grain + key.grains) * 0x9e3779b97f4a7c15u) ^
                                            static_cast<std::uint64_t>(key.crossing + 3) << 48);
        }
    };
    struct Place {
        int sights = 0, patience = 4;
        std::unique_ptr<Leg<Real>> leg;
    };
    /// Whether it was gone along so often that it pays to make its like at once.
    static bool wasWorthwhile(const Leg<Real>& leg) { return leg.visits + leg.rounds >= 40; }
    void retire(Leg<Real>& leg, int sights);
    struct Course;

    std::unique_ptr<Leg<Real>> build(const Stretch<Real>& stretch, Tick length, Tick slack, int order);
    Matrix<Real> watched(const Mode<Real>& mode, const Stretch<Real>& stretch);
    bool guarded(Leg<Real>& leg, const Stretch<Real>& stretch);
    static Key rigidKey(const Mode<Real>* mode, Tick length, std::uint64_t phase);
    static Key tailedKey(const Mode<Real>* mode, Tick length, int crossing);
    Leg<Real>* sight(const Key& key, const Stretch<Real>& stretch, int order, int needed);
    int sightsNeeded() const { return 30 + frame_.size(); }  ///< a leg costs as much as so many general ways

    const Frame<Real>& frame_;
    Magnitudes<Real>& magnitudes_;
    Recorder<Real>& recorder_;
    std::unordered_map<Key, Place, KeyHash> places_;
    std::unordered_map<const Leg<Real>*, Key> keys_;
    std::unordered_map<const Mode<Real>*, Leg<Real>*> lastCrossing_;
    std::vector<std::unique_ptr<Leg<Real>>> retired_;  ///< others may still point to them
    Leg<Real>* last_ = nullptr;
    std::size_t bytes_ = 0;
    std::int64_t built_ = 0;
    double seconds_ = 0.0;
};

}  // namespace hedgerow::exact

#pragma once
// Interval maps: the way from one event to the next, as one matrix.
//
// In a converter the same intervals come again and again: the same configuration for the same length of time. Such an
// interval is a linear map. From the values at its start it gives the values at its end, the points to store, whether a
// guard can end within it, and whether the stored lines are straight enough. A map holds these rows; going through the
// interval is one product. Where one of its conditions fails, the engine steps to the event.
//
// A map is `length` long plus a tail of at most `slack`, which is a Taylor polynomial: it ends at a scheduled instant
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

/// A guard that ends at the same instant as the one that ends a map: the other diode of a bridge.
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
class PeriodMap;

template <class Real>
struct IntervalMap {
    IntervalMap();
    ~IntervalMap();
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
    IntervalMap* next = nullptr;    ///< the map that followed last time
    std::uint64_t signalState = 0;  ///< of all signals at its end last time, and where they are stored
    std::uint32_t signalSet = 0;
    int visits = 0, misses = 0;
    int periodVisits = 0;  ///< it was gone along in besides
    int generation = 0;    ///< of the recorder, when it was made
    bool retired = false;
    bool fades = false;  ///< modes of motion have died out at its end: nothing else happens there
    std::unique_ptr<PeriodMap<Real>> periodMap;  ///< the whole period that begins with this map
    int periodMapAt = 4;                         ///< visits at which to try to make one
    int periodMapPatience = 16;                  ///< visits to wait after one that was of no use
    bool yielded = false;  ///< a period map that begins elsewhere in the period was given the first chance

    Eigen::Index tailAt() const { return rows.cols() * static_cast<Eigen::Index>(points.size()); }
    std::size_t bytes() const { return sizeof(Real) * static_cast<std::size_t>(rows.size() + conditions.numbers()); }
    Eigen::Index polynomialAt() const { return tailAt() + rows.cols() * (order + 1); }
};

/// What happened between two events, for the decision whether it becomes a map.
template <class Real>
struct EventInterval {
    Mode<Real>* mode = nullptr;
    Vector<Real> start, end;
    Tick length = 0;
    int crossing = -1;
    bool repeats = false;                        ///< the control has a period, many of which are to come
    bool fades = false;                          ///< to where modes of motion have died out
    bool periodic = false;                       ///< from one edge of a periodic control to the next
    std::uint64_t phase = 0;                     ///< of the clock, at its start
    const IntervalMap<Real>* instead = nullptr;  ///< of this map, which came last time and did not fit
};

template <class Real>
class IntervalMaps {
public:
    IntervalMaps(const StateLayout<Real>& layout, Scales<Real>& scales, Recorder<Real>& recorder)
        : layout_(layout), scales_(scales), recorder_(recorder) {}

    /// A map of this mode that fits an interval of this length, or nullptr.
    /// @param phase  of the clock, at its start
    IntervalMap<Real>* scheduled(const Mode<Real>* mode, Tick length, std::uint64_t phase);
    /// The map that ended by a guard last time in this mode, or nullptr.
    IntervalMap<Real>* crossing(const Mode<Real>* mode);
    /// The map that came last time after the one that was walked last, or nullptr.
    IntervalMap<Real>* predicted() const {
        return last_ && last_->next && !last_->next->retired ? last_->next : nullptr;
    }
    /// Takes note that a map, or none (nullptr), was walked.
    void walked(IntervalMap<Real>* map) {
        if (last_ && map) last_->next = map;
        last_ = map;
    }
    /// Takes note of an interval; makes it a map when it came often enough. @return the map, or nullptr
    IntervalMap<Real>* note(const EventInterval<Real>& interval);
    /// Takes note of a visit, or that the conditions of a map failed. What no longer suits is made anew.
    void visited(IntervalMap<Real>& map);
    void missed(IntervalMap<Real>& map);
    void renew(IntervalMap<Real>& map) { retire(map, wasWorthwhile(map) ? sightsNeeded() : 0); }
    /// Makes the period that begins with this map a period map, when nothing but maps with scheduled ends is in it.
    void makePeriodMap(IntervalMap<Real>& map, const Clock& clock);
    void dropPeriodMap(IntervalMap<Real>& map);
    /// The control may have other edges now.
    void dropPeriodMaps();
    void clear();

    /// Periods that must be to come for a map that is seen in each of them to be worth its while.
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
        std::unique_ptr<IntervalMap<Real>> map;
    };
    /// Whether it was gone along so often that it pays to make its like at once.
    static bool wasWorthwhile(const IntervalMap<Real>& map) { return map.visits + map.periodVisits >= 40; }
    void retire(IntervalMap<Real>& map, int sights);
    struct Course;

    std::unique_ptr<IntervalMap<Real>> build(const EventInterval<Real>& interval, Tick length, Tick slack, int order);
    Matrix<Real> watched(const Mode<Real>& mode, const EventInterval<Real>& interval);
    bool guarded(IntervalMap<Real>& map, const EventInterval<Real>& interval);
    static Key rigidKey(const Mode<Real>* mode, Tick length, std::uint64_t phase);
    static Key tailedKey(const Mode<Real>* mode, Tick length, int crossing);
    IntervalMap<Real>* sight(const Key& key, const EventInterval<Real>& interval, int order, int needed);
    int sightsNeeded() const { return 30 + layout_.size(); }  ///< a map costs as much as so many general ways

    const StateLayout<Real>& layout_;
    Scales<Real>& scales_;
    Recorder<Real>& recorder_;
    std::unordered_map<Key, Place, KeyHash> places_;
    std::unordered_map<const IntervalMap<Real>*, Key> keys_;
    std::unordered_map<const Mode<Real>*, IntervalMap<Real>*> lastCrossing_;
    std::vector<std::unique_ptr<IntervalMap<Real>>> retired_;  ///< others may still point to them
    IntervalMap<Real>* last_ = nullptr;
    std::size_t bytes_ = 0;
    std::int64_t built_ = 0;
    double seconds_ = 0.0;
};

}  // namespace hedgerow::exact

#pragma once
// Which diodes conduct: finding a configuration that is consistent with the states after an event.
//
// Ideal diodes pose a linear complementarity problem: per diode, current >= 0 and voltage <= knee, one of them tight.
// All violators are flipped together first; should that cycle, one at a time by least index (K. G. Murty, Linear
// Complementarity, Linear and Nonlinear Programming, 1988, ch. 4), then every combination is tried.

#include <cstdint>
#include <memory>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/result.h"
#include "engines/exact/conditions.h"
#include "engines/exact/propagator.h"
#include "engines/exact/slow_motion.h"

namespace hedgerow::exact {

struct GuardInfo {
    int element;
    int next;
    Terms terms;  ///< over z
    UnknownSort sort;
};

/// Every element in a segment: equations and guards. Modes that differ in their guards only share the equations.
template <class Real>
struct Mode {
    Mode(const StateLayout<Real>& layout, Segments chosen, std::shared_ptr<Algebra<Real>> shared);
    const Configuration<Real>& configuration() const { return algebra->configuration; }
    Propagator<Real>& propagator() const { return algebra->propagator; }
    std::size_t bytes() const;
    /// The size of zero of every guard.
    const std::vector<Real>& noise(const Scales<Real>& scales);
    /// Values of the guards, then their slopes.
    void guardValuesAndRates(const Real* y, Vector<Real>& result);
    /// From y just before: integrals of the guards over the instant of entering, values of the guards after it, and
    /// what jumps by how much. @pre the configuration projects  @param result  grows where it is too short
    void projectAndEvaluate(const Real* y, Vector<Real>& result);

    Segments segments;
    std::shared_ptr<Algebra<Real>> algebra;
    std::vector<GuardInfo> guards;
    Rows<Real> guardValue;    ///< g = guardValue * y
    Rows<Real> guardRate;     ///< its slope; empty until it is asked for
    Rows<Real> guardImpulse;  ///< its integral over the instant of entering, from y before; empty without impulse
    std::vector<int> lost;    ///< winding currents that have no path in this configuration
    bool timed = false;       ///< an element leaves its segment after a time
    std::int64_t lastUse = 0;
    int view = -1;          ///< of the recorder
    int looks = 0;          ///< at the guards
    Rows<Real> looking;     ///< makes values and slopes of guards at once, when that was often
    int arrivals = 0;       ///< how often it was entered as what came of it last time
    Rows<Real> arriving;    ///< does what arrive() does at once, when that was often
    int sampled = 0;        ///< how often the recorder looked at values and slopes
    Matrix<Real> sampling;  ///< makes them from y at once, when that was often
    int entries = 0;        ///< how often it was gone from since it was entered

    /// Without the fastest modes that die out at once; null when there are none. What one enters is the last of the
    /// row.
    std::unique_ptr<Mode> calm;
    Mode* last() { return calm ? calm->last() : this; }
    bool calmKnown = false;
    /// Without modes that die out later, by the cut they are faster than.
    std::vector<std::pair<const Cut<Real>*, std::unique_ptr<Mode>>> later;
    /// Of a mode without some: the mode with all, and the motion that is left.
    Mode* whole = nullptr;
    std::shared_ptr<SlowMotion<Real>> motion;
    /// Whether states may jump when it is entered.
    bool moves() const { return motion || configuration().projects; }
    void land(Vector<Real>& y) const { y = motion->projection * y; }

private:
    const StateLayout<Real>* layout_;
    std::vector<Real> noise_;
    Vector<Real> slope_;
    int noiseVersion_ = -1;
};

/// What made the circuit change, for messages.
struct Cause {
    enum class Sort { none, start, gateOn, gateOff, change, timeout };
    Sort sort = Sort::none;
    int element = -1;
};

template <class Real>
class Commutation {
public:
    /// @param apart  whether subnetworks of the network are solved apart where they can be
    Commutation(const StateLayout<Real>& layout, Scales<Real>& scales, bool apart);

    /// Finds the consistent mode just after an event and projects `y` onto it.
    /// @param y  in: states just before, sources just after; out: consistent states just after
    /// @param wanted  segments with the gates as they now are; the first guess for the others
    /// @return the mode (owned by this object), or an error that names parts
    Result<Mode<Real>*> findConsistent(Vector<Real>& y, const Segments& wanted, Tick t, const Cause& cause);
    /// The same when `mode` is what came of it last time: false when it is not, and `y` is then untouched.
    bool isConsistent(Mode<Real>& mode, Vector<Real>& y);
    /// Conditions on y just before that are enough for isConsistent() to be true; they are void when noiseVersion()
    /// changes.
    /// @pre the configuration cannot contradict
    Conditions<Real> enough(Mode<Real>& mode) const;
    int noiseVersion() const { return scales_.version(); }
    /// What isConsistent() does when it is true. @pre it would be
    void enter(Mode<Real>& mode, Vector<Real>& y);
    /// The mode that takes over when modes have died out, if that is early in the time that is to come; with how long
    /// after entering that is.
    struct Fading {
        Mode<Real>* to = nullptr;
        Tick after = 0;
    };
    Fading fading(Mode<Real>& mode, Tick horizon);
    /// The mode with these segments, built when it is new.
    Mode<Real>& mode(const Segments& segments);

    std::int64_t configurationsBuilt() const { return built_; }
    /// States of single subnetworks, of which configurations are put together.
    std::int64_t subnetworksSolved() const { return subnetworks_.solved(); }
    std::int64_t subnetworkCount() const { return static_cast<std::int64_t>(reduction_.subnetworks().size()); }
    std::int64_t configurationsRevisited() const { return revisited_; }
    double secondsBuilding() const { return secondsBuilding_; }
    std::int64_t products() const;
    std::size_t bytes() const;
    /// Grows whenever modes were dropped: pointers to others than the last settled one are then void.
    int generation() const { return generation_; }

private:
    enum class Verdict { consistent, violated, impossible };
    struct Trial {
        Verdict verdict = Verdict::consistent;
        std::vector<std::size_t> violators;  ///< indices into the guards of the mode
        bool onTheWay = false;               ///< they end after the states have moved
    };

    Mode<Real>* search(Segments candidate, Vector<Real> before, Vector<Real>& after, Mode<Real>*& last);
    Vector<Real> contradictionNoise(const Mode<Real>& mode, const Vector<Real>& y) const;
    bool contradictsSoon(const Mode<Real>& mode, const Vector<Real>& y) const;
    bool leaveZero(Mode<Real>& mode, const Real* values, const Real* y);
    Trial judge(Mode<Real>& mode, const Vector<Real>& before, Vector<Real>& after);
    bool contradicted(const Mode<Real>& mode, const Vector<Real>& y, Trial& trial) const;
    std::vector<std::size_t> shadowed(const Mode<Real>& mode) const;
    void judgeGuards(Mode<Real>& mode, Vector<Real>& after, Trial& trial);
    void land(Mode<Real>& mode, Vector<Real>& y);
    void stopOnTheWay(Mode<Real>& landing, const Vector<Real>& values, const Vector<Real>& from, Vector<Real>& after,
                      Trial& trial);
    Mode<Real>* calm(Mode<Real>& mode);
    std::unique_ptr<Mode<Real>> without(Mode<Real>& mode, std::shared_ptr<SlowMotion<Real>> motion);
    bool holds(Mode<Real>& mode, const Real* values, const Vector<Real>& y);
    Mode<Real>* enumerate(const Segments& wanted, const Vector<Real>& before, Vector<Real>& after);
    Status lostCurrents(const Mode<Real>& mode, const Vector<Real>& before, Tick t, const Cause& cause) const;
    std::string when(Tick t, const Cause& cause) const;
    Error failure(Mode<Real>& mode, const Vector<Real>& before, Tick t, const Cause& cause) const;
    Error illPosed(const Mode<Real>& mode, const std::string& when) const;
    std::optional<Error> impossible(Mode<Real>& mode, const Vector<Real>& before, const std::string& when) const;
    void trim(const Mode<Real>* keep);

    const StateLayout<Real>& layout_;
    const StaticReduction<Real> reduction_;
    SubnetworkStates<Real> subnetworks_;
    SlowMotions<Real> motions_;
    Scales<Real>& scales_;
    std::unordered_map<Segments, std::unique_ptr<Mode<Real>>, SegmentsHash> modes_;
    std::unordered_map<Segments, std::shared_ptr<Algebra<Real>>, SegmentsHash> algebras_;  ///< by equations
    std::vector<std::size_t> logic_;                                ///< elements that drive a signal
    std::unordered_map<Segments, Segments, SegmentsHash> guesses_;  ///< from wanted to what came of it last time
    Vector<Real> arrival_, landed_, guardRates_, guardBends_, slopes_;
    bool lenient_ = false;  ///< guards may be a little beyond their noise if they come back within a base step
    std::int64_t built_ = 0, nextTrim_ = 0, revisited_ = 0, retiredProducts_ = 0, clock_ = 0;
    int generation_ = 0;
    double secondsBuilding_ = 0.0;
};

/// What a run ends with where a state is infinite or no number: names its part. @pre one of y is
template <class Real>
Error beyondNumbers(const StateLayout<Real>& layout, const Vector<Real>& y, Tick t);

}  // namespace hedgerow::exact

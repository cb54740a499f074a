#pragma once
// Which segment each element is in: consistent after every event, and where a guard ends a segment.

#include <optional>
#include <string>
#include <vector>

#include "engines/adaptive/stepper.h"

namespace hedgerow::adaptive {

class Switching {
public:
    Switching(System& system, Stepper& stepper, Scales& scales);

    const std::vector<int>& segments() const { return segments_; }
    /// Sets segments without looking for consistent ones. @return whether any changed
    bool set(const std::vector<int>& segments);
    /// Finds segments whose guards hold just after `t`, and the unknowns there. Charges and fluxes are shared out where
    /// the configuration forces them. Errors name parts. @param what  happened, for messages: "when S1 turns off"
    Status settle(Instant& at, Tick t, const std::string& what);
    /// Looks at shorter moments: for time constants below the usual one.
    void lookCloser(bool closer);
    /// Flips what is violated by unknowns at an instant and still by those a moment later. @return whether anything was
    bool flipViolated(const Values& z, const Values& later, bool onlyFirst);

    /// A guard of the present configuration.
    struct Active {
        std::size_t element;
        Guard guard;
        double zero;  ///< what counts as none of it
    };
    const std::vector<Active>& guards() const { return guards_; }
    /// Of its scale, what of a guard counts as none.
    double zero() const { return zero_; }
    /// Parts that flipped in the last settle(), by element.
    const std::vector<std::size_t>& flipped() const { return flipped_; }

private:
    bool ofSignal(const Active& active) const;
    bool flipAgainstImpulses(const Values& z, bool onlyFirst);
    void collect();
    std::optional<Error> lostCurrent(const Instant& before, const Instant& after, Tick t,
                                     const std::string& what) const;
    Error failed(Outcome outcome, Tick t, const std::string& what) const;

    System& system_;
    Stepper& stepper_;
    Scales& scales_;
    double zero_, moment_;
    std::vector<int> segments_;
    std::vector<Active> guards_;
    std::vector<std::size_t> flipped_;
};

}  // namespace hedgerow::adaptive

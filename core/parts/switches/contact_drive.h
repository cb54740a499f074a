#pragma once
// What moves a gated contact: a wire at its gate or, where there is none, its position, which the events of a scene
// change; and how it bounces.

#include "parts/control/signal_part.h"

namespace hedgerow::parts {

/// Follows a gate or a position. Closing, a contact that bounces opens three times more before it stays closed: within
/// its bounce time, for shorter and shorter times.
class ContactDrive final : public SignalProcess {
public:
    /// Where it opens and closes again, in parts of the bounce time: of each rebound the lift is much longer than the
    /// touch before it, and both shrink.
    static constexpr double rebounds[] = {0.10, 0.45, 0.55, 0.80, 0.87, 1.0};

    /// @param position  closed or open, without a gate; nothing with one
    ContactDrive(std::optional<bool> position, double bounce) : position_(position), bounce_(toTicks(bounce)) {}

    Status advance(Tick t, std::span<const double> in, std::span<double> out) override {
        const bool wanted = position_ ? *position_ : in[0] > 0.5;
        if (!begun_)
            moved_ = neverTick;  // at the start it stands
        else if (wanted != wanted_)
            moved_ = wanted && bounce_ > 0 ? t : neverTick;
        begun_ = true, wanted_ = wanted;
        if (moved_ != neverTick && t >= edge(std::size(rebounds) - 1)) moved_ = neverTick;
        bool closed = wanted_;
        if (moved_ != neverTick)
            for (std::size_t k = 0; k < std::size(rebounds); ++k)
                if (t >= edge(k)) closed = k % 2 == 1;
        out[0] = closed ? 1 : 0;
        return {};
    }
    Tick next(Tick t) const override {
        if (moved_ != neverTick)
            for (std::size_t k = 0; k < std::size(rebounds); ++k)
                if (edge(k) > t) return edge(k);
        return neverTick;
    }
    void memory(Memory& all) override {
        all.flag("begun", begun_), all.flag("wanted", wanted_), all.instant("closed at", moved_);
    }

private:
    Tick edge(std::size_t k) const {
        return later(moved_, static_cast<Tick>(rebounds[k] * static_cast<double>(bounce_)));
    }

    std::optional<bool> position_;
    Tick bounce_, moved_ = neverTick;
    bool begun_ = false, wanted_ = false;
};

/// Where a contact stands while no wire moves it. Events of a scene set it: "50m: Q1 closes".
inline ParameterKind contactPosition() {
    return {.key = "position",
            .label = "without a wire at its gate it is",
            .symbol = "",
            .unit = "",
            .standard = "open",
            .choices = {"open", "closed"}};
}
inline ParameterKind bounceTime() {
    return {.key = "bounce",
            .label = "time it bounces when it closes",
            .symbol = "t_b",
            .unit = "s",
            .standard = "none",
            .least = 0,
            .most = 1,
            .none = 0};
}

/// The signal that moves the contact. @pre the kind has the pin "g", which may stay open, and "position"
inline int contactSignal(NetworkBuilder& b, double bounce) {
    const int gate = b.signal("g");
    const bool wired = connected(b, "g");
    if (wired && b.typed("position"))
        b.refuse("position", "the wire at its gate moves the contact: take the wire away, or this value");
    if (wired && bounce <= 0) return gate;
    const std::optional<bool> position = wired ? std::nullopt : std::optional(b.choice("position") == "closed");
    const int signal = b.addSignal();
    std::vector<SignalInput> inputs;
    if (wired) inputs.push_back(b.input("g"));
    b.addSignalBlock(std::make_unique<ProcessBlock>(
                         [position, bounce] { return std::make_unique<ContactDrive>(position, bounce); }, true),
                     std::move(inputs), {signal});
    return signal;
}

}  // namespace hedgerow::parts

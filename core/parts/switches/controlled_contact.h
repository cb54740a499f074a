#pragma once
// A contact that a voltage elsewhere closes.

#include "parts/two_terminal.h"

namespace hedgerow::parts {

/// Resistance when closed and conductance when open, of the rung in force.
struct Contact {
    explicit Contact(const NetworkBuilder& b) {
        if (b.rung() < 2) return;
        resistance = b.value("ron");
        conductance = 1 / b.value("roff");
    }
    double resistance = 0, conductance = 0;
};

/// Closes when a voltage elsewhere rises above one threshold and opens when it falls below another.
class ControlledContact final : public Branch {
public:
    struct Control {
        int from, to;
        double closes, opens;  ///< V
    };
    ControlledContact(std::string part, int branch, int from, int to, int nodeCount, const Contact& contact,
                      const Control& control)
        : Branch(std::move(part), branch, from, to),
          current_(nodeCount + branch),
          contact_(contact),
          control_(control) {}
    int segmentCount() const override { return 2; }
    int initialSegment(bool) const override { return 0; }
    void stamp(LinearStamp& s, int segment) const override {
        const int row = s.branchRow(branch_);
        s.currentLaw(branch_, from_, to_);
        if (segment == 1) {
            s.voltage(row, from_, to_, 1.0);
            s.unknown(row, current_, -contact_.resistance);
            s.relax(row, current_, -1.0);
        } else {
            s.unknown(row, current_, 1.0);
            s.voltage(row, from_, to_, -contact_.conductance);
            s.relax(row, from_, -1.0);
            s.relax(row, to_, 1.0);
        }
    }
    std::vector<Guard> guards(int segment) const override {
        const double sign = segment == 1 ? 1 : -1;
        Guard guard{{}, segment == 1 ? -control_.opens : control_.closes, 1 - segment};
        if (control_.from >= 0) guard.terms.emplace_back(control_.from, sign);
        if (control_.to >= 0) guard.terms.emplace_back(control_.to, -sign);
        return {guard};
    }

private:
    int current_;
    Contact contact_;
    Control control_;
};

}  // namespace hedgerow::parts

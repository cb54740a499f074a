#pragma once
// What a stretch of a trace comes to: the numbers from which envelopes and measures are made.

#include <algorithm>
#include <cmath>
#include <limits>

namespace hedgerow {

/// Least and greatest value of some points, and the integrals of value and square over the lines that start at them.
/// Where a quantity has no value (it is not a number there), it has no line either.
struct Block {
    double min = std::numeric_limits<double>::infinity(), max = -std::numeric_limits<double>::infinity();
    double integral = 0, squares = 0;
    double seconds = 0;  ///< of these lines

    /// What is not a number changes nothing: the order of the arguments sees to that.
    void include(double value) { min = std::min(min, value), max = std::max(max, value); }
    void add(const Block& other) {
        min = std::min(min, other.min);
        max = std::max(max, other.max);
        integral += other.integral;
        squares += other.squares;
        seconds += other.seconds;
    }
    /// A line of `length` seconds along which one factor of the value goes from a0 to a1 and the other from b0 to b1:
    /// powers of the line in closed form.
    void addLine(double length, double a0, double a1, double b0, double b1, bool product) {
        if (std::isnan((a0 + a1) + (b0 + b1))) return;
        seconds += length;
        if (!product) {
            integral += length * (a0 + a1) / 2;
            squares += length * (a0 * a0 + a0 * a1 + a1 * a1) / 3;
            return;
        }
        const double da = a1 - a0, db = b1 - b0;
        const double k0 = a0 * b0, k1 = a0 * db + b0 * da, k2 = da * db;  // of the value, a polynomial of the way along
        integral += length * (k0 + k1 / 2 + k2 / 3);
        squares += length * (k0 * k0 + k0 * k1 + (2 * k0 * k2 + k1 * k1) / 3 + k1 * k2 / 2 + k2 * k2 / 5);
    }
};

}  // namespace hedgerow

// Control code against the same in C++: a regulator of three phases in about a hundred lines, run a million times each,
// alternately, in one run of this program.

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <vector>

#include "base/time.h"
#include "control/st/program.h"

using namespace hedgerow;

namespace {

const char* const source = R"(
VAR_INPUT
  ia : LREAL;
  ib : LREAL;
  ic : LREAL;
  theta : LREAL;
  speed : LREAL;
  setSpeed : LREAL;
  enable : BOOL;
END_VAR
VAR_OUTPUT
  ua : LREAL;
  ub : LREAL;
  uc : LREAL;
END_VAR
VAR CONSTANT
  Kps : LREAL := 0.4;
  Kis : LREAL := 20.0;
  Kpi : LREAL := 1.5;
  Kii : LREAL := 900.0;
  iMost : LREAL := 30.0;
  uMost : LREAL := 40.0;
  third : LREAL := 2.0943951023931953;
  Ld : LREAL := 0.0002;
  Psi : LREAL := 0.012;
END_VAR
VAR
  s, c : LREAL;
  alpha, beta : LREAL;
  d, q : LREAL;
  es, ed, eq : LREAL;
  xs, xd, xq : LREAL;
  setQ : LREAL;
  ud, uq : LREAL;
  size, share : LREAL;
  va, vb, vc : LREAL;
  low, high, common : LREAL;
  filtered : ARRAY[0..3] OF LREAL;
  sum : LREAL;
  i : INT;
  limited : BOOL;
  trips : DINT;
END_VAR

IF NOT enable THEN
  xs := 0.0;
  xd := 0.0;
  xq := 0.0;
  ua := 0.0;
  ub := 0.0;
  uc := 0.0;
  RETURN;
END_IF;

(* a moving mean of the speed *)
FOR i := 3 TO 1 BY -1 DO
  filtered[i] := filtered[i - 1];
END_FOR;
filtered[0] := speed;
sum := 0.0;
FOR i := 0 TO 3 DO
  sum := sum + filtered[i];
END_FOR;

(* the speed asks for a current *)
es := setSpeed - sum / 4.0;
xs := LIMIT(-iMost, xs + Kis * SAMPLE_TIME * es, iMost);
setQ := LIMIT(-iMost, Kps * es + xs, iMost);

(* currents seen from the rotor *)
alpha := (2.0 * ia - ib - ic) / 3.0;
beta := (ib - ic) / SQRT(3.0);
s := SIN(theta);
c := COS(theta);
d := alpha * c + beta * s;
q := beta * c - alpha * s;

(* two current regulators with what couples them taken off *)
ed := -d;
eq := setQ - q;
xd := LIMIT(-uMost, xd + Kii * SAMPLE_TIME * ed, uMost);
xq := LIMIT(-uMost, xq + Kii * SAMPLE_TIME * eq, uMost);
ud := Kpi * ed + xd - speed * Ld * q;
uq := Kpi * eq + xq + speed * (Ld * d + Psi);

(* no more than the supply gives *)
size := SQRT(ud * ud + uq * uq);
limited := size > uMost;
IF limited THEN
  share := uMost / size;
  ud := ud * share;
  uq := uq * share;
  trips := trips + 1;
ELSE
  share := 1.0;
END_IF;

(* back to three phases, centred *)
alpha := ud * c - uq * s;
beta := uq * c + ud * s;
va := alpha;
vb := -0.5 * alpha + 0.8660254037844386 * beta;
vc := -0.5 * alpha - 0.8660254037844386 * beta;
low := MIN(va, vb, vc);
high := MAX(va, vb, vc);
common := -0.5 * (low + high);
ua := (va + common) / uMost;
ub := (vb + common) / uMost;
uc := (vc + common) / uMost;
)";

/// The same by hand.
struct Regulator {
    double period;
    double xs = 0, xd = 0, xq = 0, filtered[4] = {};
    long trips = 0;
    double ua = 0, ub = 0, uc = 0;
    void run(double ia, double ib, double ic, double theta, double speed, double setSpeed, bool enable) {
        constexpr double iMost = 30, uMost = 40;
        if (!enable) {
            xs = xd = xq = ua = ub = uc = 0;
            return;
        }
        for (int i = 3; i >= 1; --i) filtered[i] = filtered[i - 1];
        filtered[0] = speed;
        double sum = 0;
        for (const double value : filtered) sum += value;
        const double es = setSpeed - sum / 4;
        xs = std::clamp(xs + 20.0 * period * es, -iMost, iMost);
        const double setQ = std::clamp(0.4 * es + xs, -iMost, iMost);
        double alpha = (2 * ia - ib - ic) / 3, beta = (ib - ic) / std::sqrt(3.0);
        const double s = std::sin(theta), c = std::cos(theta);
        const double d = alpha * c + beta * s, q = beta * c - alpha * s, ed = -d, eq = setQ - q;
        xd = std::clamp(xd + 900.0 * period * ed, -uMost, uMost);
        xq = std::clamp(xq + 900.0 * period * eq, -uMost, uMost);
        double ud = 1.5 * ed + xd - speed * 0.0002 * q, uq = 1.5 * eq + xq + speed * (0.0002 * d + 0.012);
        const double size = std::sqrt(ud * ud + uq * uq);
        if (size > uMost) {
            ud *= uMost / size;
            uq *= uMost / size;
            ++trips;
        }
        alpha = ud * c - uq * s, beta = uq * c + ud * s;
        const double va = alpha, vb = -0.5 * alpha + 0.8660254037844386 * beta,
                     vc = -0.5 * alpha - 0.8660254037844386 * beta;
        const double common = -0.5 * (std::min({va, vb, vc}) + std::max({va, vb, vc}));
        ua = (va + common) / uMost, ub = (vb + common) / uMost, uc = (vc + common) / uMost;
    }
};

}  // namespace

int main() {
    constexpr double period = 1e-4;
    constexpr int calls = 1'000'000, repeats = 9;
    const auto program = st::Program::compile(source, period);
    if (!program) {
        std::printf("%s\n", program.error().text().c_str());
        return 1;
    }
    st::Machine machine(*program);
    Regulator byHand{period};
    const auto inputs = variablesOf(**program, st::Role::input), outputs = variablesOf(**program, st::Role::output);
    const auto values = [](int k) {
        const double t = k * period, angle = 2 * 3.14159265358979 * std::fmod(50 * t, 1.0);
        return std::vector<double>{10 * std::cos(angle),
                                   10 * std::cos(angle - 2.0943951),
                                   10 * std::cos(angle + 2.0943951),
                                   angle,
                                   300,
                                   310,
                                   1};
    };
    std::vector<std::vector<double>> table;
    for (int k = 0; k < 200; ++k) table.push_back(values(k));
    std::vector<double> ratios;
    double interpreted = 0, compiled = 0, difference = 0;
    for (int r = 0; r < repeats; ++r) {
        const Stopwatch first;
        for (int k = 0; k < calls; ++k) {
            const auto& in = table[static_cast<std::size_t>(k % 200)];
            for (std::size_t i = 0; i < in.size(); ++i) machine.set(*inputs[i], in[i]);
            if (!machine.run(k * period)) return 1;
        }
        interpreted = first.seconds();
        const Stopwatch second;
        for (int k = 0; k < calls; ++k) {
            const auto& in = table[static_cast<std::size_t>(k % 200)];
            byHand.run(in[0], in[1], in[2], in[3], in[4], in[5], in[6] > 0.5);
        }
        compiled = second.seconds();
        ratios.push_back(interpreted / compiled);
        difference = std::max({difference, std::abs(machine.value(*outputs[0]) - byHand.ua),
                               std::abs(machine.value(*outputs[2]) - byHand.uc)});
    }
    std::sort(ratios.begin(), ratios.end());
    std::printf("control code over the same in C++: %.1f (%.1f to %.1f), %.0f ns a call; greatest difference %.1e\n",
                ratios[repeats / 2], ratios.front(), ratios.back(), interpreted / calls * 1e9, difference);
    return 0;
}

// CVODE (BDF, dense Newton, analytic Jacobian) on the step-up stage and on the six-pulse rectifier of circuits.h. It is
// given its best: equations worked out by hand, edges as exact stop times, and a restart only where the equations
// change.

#include "stiff_solver.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <functional>
#include <numbers>
#include <vector>

#include <cvode/cvode.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_dense.h>
#include <sunmatrix/sunmatrix_dense.h>

namespace hedgerow::bench {

namespace {

/// x' = A x + b(t) with roots that end the configuration.
struct Problem {
    int size = 0;
    std::function<void(double t, const double* x, double* rate)> rate;
    std::function<void(double t, const double* x, SUNMatrix jacobian)> jacobian;
    int rootCount = 0;
    std::function<void(double t, const double* x, double* roots)> roots;
};

void need(int code, const char* what) {
    if (code >= 0) return;
    std::fprintf(stderr, "%s: %d\n", what, code);
    std::exit(1);
}

class Solver {
public:
    Solver(Problem& problem, const std::vector<double>& start, double tolerance) : problem_(problem) {
        SUNContext_Create(nullptr, &context_);
        state_ = N_VNew_Serial(problem.size, context_);
        for (int i = 0; i < problem.size; ++i) NV_Ith_S(state_, i) = start[static_cast<std::size_t>(i)];
        memory_ = CVodeCreate(CV_BDF, context_);
        need(CVodeInit(memory_, &Solver::rate, 0.0, state_), "init");
        need(CVodeSStolerances(memory_, tolerance, tolerance), "tolerances");
        need(CVodeSetUserData(memory_, &problem_), "user data");
        matrix_ = SUNDenseMatrix(problem.size, problem.size, context_);
        linear_ = SUNLinSol_Dense(state_, matrix_, context_);
        need(CVodeSetLinearSolver(memory_, linear_, matrix_), "linear solver");
        need(CVodeSetJacFn(memory_, &Solver::jacobian), "jacobian");
        CVodeSetMaxNumSteps(memory_, 1'000'000);
        if (problem.rootCount > 0) need(CVodeRootInit(memory_, problem.rootCount, &Solver::root), "roots");
    }
    ~Solver() {
        CVodeFree(&memory_);
        SUNLinSolFree(linear_);
        SUNMatDestroy(matrix_);
        N_VDestroy(state_);
        SUNContext_Free(&context_);
    }
    Solver(const Solver&) = delete;
    Solver& operator=(const Solver&) = delete;

    double* x() { return NV_DATA_S(state_); }
    double t() const { return t_; }
    void restart() { need(CVodeReInit(memory_, t_, state_), "restart"); }
    /// Roots that start at zero are no fault: a diode that has just begun to conduct.
    void quiet() { CVodeSetNoInactiveRootWarn(memory_); }
    /// Goes to `stop` or to the first root. @return true at a root
    bool advance(double stop) {
        need(CVodeSetStopTime(memory_, stop), "stop time");
        const int code = CVode(memory_, stop, state_, &t_, CV_NORMAL);
        need(code, "solve");
        return code == CV_ROOT_RETURN;
    }
    std::vector<int> rootsFound() {
        std::vector<int> found(static_cast<std::size_t>(problem_.rootCount));
        CVodeGetRootInfo(memory_, found.data());
        return found;
    }

private:
    static int rate(double t, N_Vector x, N_Vector rate, void* data) {
        static_cast<Problem*>(data)->rate(t, NV_DATA_S(x), NV_DATA_S(rate));
        return 0;
    }
    static int jacobian(double t, N_Vector x, N_Vector, SUNMatrix j, void* data, N_Vector, N_Vector, N_Vector) {
        static_cast<Problem*>(data)->jacobian(t, NV_DATA_S(x), j);
        return 0;
    }
    static int root(double t, N_Vector x, double* roots, void* data) {
        static_cast<Problem*>(data)->roots(t, NV_DATA_S(x), roots);
        return 0;
    }
    Problem& problem_;
    SUNContext context_ = nullptr;
    N_Vector state_ = nullptr;
    void* memory_ = nullptr;
    SUNMatrix matrix_ = nullptr;
    SUNLinearSolver linear_ = nullptr;
    double t_ = 0;
};

}  // namespace

void stiffStepUp(int periods, double tolerance) {
    constexpr double L = 47e-6, C = 47e-6, R = 24, V = 24, T = 1e-5, D = 0.5;
    bool on = true;
    Problem p;
    p.size = 2;
    p.rate = [&](double, const double* x, double* rate) {
        rate[0] = (on ? V : V - x[1]) / L;
        rate[1] = ((on ? 0 : x[0]) - x[1] / R) / C;
    };
    p.jacobian = [&](double, const double*, SUNMatrix j) {
        SM_ELEMENT_D(j, 0, 0) = 0;
        SM_ELEMENT_D(j, 0, 1) = on ? 0 : -1 / L;
        SM_ELEMENT_D(j, 1, 0) = on ? 0 : 1 / C;
        SM_ELEMENT_D(j, 1, 1) = -1 / (R * C);
    };
    p.rootCount = 1;  // the diode's current, while it conducts
    p.roots = [&](double, const double* x, double* roots) { roots[0] = on ? 1.0 : x[0]; };
    Solver solver(p, {4, 48}, tolerance);
    for (int k = 0; k < periods; ++k) {
        on = true;
        if (k > 0) solver.restart();
        solver.advance((k + D) * T);
        on = false;
        solver.restart();
        if (solver.advance((k + 1) * T)) std::exit(1);
    }
}

/// States: three source currents and that of the choke, and the voltage of the capacitor. At any time two or three
/// diodes conduct; while three do, two phases are joined through their inductances.
void stiffSixPulse(double seconds, double tolerance) {
    constexpr double Ls = 300e-6, Rs = 10e-3, L = 2e-3, C = 1e-3, R = 20, f = 50;
    const double peak = 400 * std::sqrt(2.0 / 3.0), omega = 2 * std::numbers::pi * f;
    const auto source = [&](double t, int k) { return peak * std::sin(omega * t - 2 * std::numbers::pi * k / 3); };
    // States: phase currents a and b (c follows), choke current, capacitor voltage. upper[k], lower[k]: diodes.
    std::array<bool, 3> upper{}, lower{};
    const auto rates = [&](double t, const double* x, double* rate) {
        // Kirchhoff: currents of conducting phases are states, the others zero. v_p, v_m from the balance of rates:
        // sum over upper of i' = choke', sum over lower of -i' = choke'.
        std::array<double, 3> i = {x[0], x[1], x[2]}, e{};
        for (int k = 0; k < 3; ++k) e[static_cast<std::size_t>(k)] = source(t, k) - Rs * i[static_cast<std::size_t>(k)];
        double nu = 0, nl = 0, eu = 0, el = 0;
        for (std::size_t k = 0; k < 3; ++k) {
            if (upper[k]) ++nu, eu += e[k];
            if (lower[k]) ++nl, el += e[k];
        }
        for (std::size_t k = 0; k < 5; ++k) rate[k] = 0;
        rate[4] = (x[3] - x[4] / R) / C;
        if (nu == 0 || nl == 0) return;
        // choke' = (vp - vm - vC) / L, vp = (eu - Ls choke') / nu, vm = (el + Ls choke') / nl
        const double choke = (eu / nu - el / nl - x[4]) / (L + Ls / nu + Ls / nl);
        const double vp = (eu - Ls * choke) / nu, vm = (el + Ls * choke) / nl;
        rate[3] = choke;
        for (std::size_t k = 0; k < 3; ++k) rate[k] = upper[k] ? (e[k] - vp) / Ls : lower[k] ? (e[k] - vm) / Ls : 0.0;
    };
    Problem p;
    p.size = 5;
    p.rate = [&](double t, const double* x, double* rate) { rates(t, x, rate); };
    p.jacobian = [&](double t, const double* x, SUNMatrix j) {
        // Linear: columns are differences of rates.
        std::array<double, 5> at{}, base{}, moved{};
        std::copy(x, x + 5, at.begin());
        rates(t, at.data(), base.data());
        for (int c = 0; c < 5; ++c) {
            at[static_cast<std::size_t>(c)] += 1;
            rates(t, at.data(), moved.data());
            at[static_cast<std::size_t>(c)] -= 1;
            for (int r = 0; r < 5; ++r)
                SM_ELEMENT_D(j, r, c) = moved[static_cast<std::size_t>(r)] - base[static_cast<std::size_t>(r)];
        }
    };
    // A conducting diode ends at zero current; a blocked one starts when its phase passes that of the conducting ones.
    p.rootCount = 6;
    const auto idle = [&] { return upper == std::array<bool, 3>{} && lower == std::array<bool, 3>{}; };
    p.roots = [&](double t, const double* x, double* roots) {
        if (idle()) {
            // Nothing conducts: the highest against the lowest phase is what starts next.
            const std::array<double, 3> e = {source(t, 0), source(t, 1), source(t, 2)};
            const auto [low, high] = std::minmax_element(e.begin(), e.end());
            std::fill(roots, roots + 6, 1.0);
            roots[0] = x[4] - (*high - *low);
            return;
        }
        double rate[5];
        rates(t, x, rate);
        double vp = -1e9, vm = 1e9;
        for (int k = 0; k < 3; ++k) {
            const auto s = static_cast<std::size_t>(k);
            const double v = source(t, k) - Rs * x[k] - Ls * rate[k];
            if (upper[s]) vp = v;
            if (lower[s]) vm = v;
        }
        for (int k = 0; k < 3; ++k) {
            const auto s = static_cast<std::size_t>(k);
            const double e = source(t, k);
            roots[k] = upper[s] ? x[k] : lower[s] ? 1.0 : vp < -1e8 ? 1.0 : vp - e;
            roots[k + 3] = lower[s] ? -x[k] : upper[s] ? 1.0 : vm > 1e8 ? 1.0 : e - vm;
        }
    };
    upper[2] = lower[1] = true;  // at t = 0 phase c is highest and b lowest; both currents start from zero
    Solver solver(p, {0, 0, 0, 0, 500}, tolerance);
    solver.quiet();
    int events = 0;
    while (solver.t() < seconds) {
        if (!solver.advance(seconds)) continue;
        const std::vector<int> found = solver.rootsFound();
        if (idle()) {
            std::array<double, 3> e{};
            for (int k = 0; k < 3; ++k) e[static_cast<std::size_t>(k)] = source(solver.t(), k);
            upper[static_cast<std::size_t>(std::max_element(e.begin(), e.end()) - e.begin())] = true;
            lower[static_cast<std::size_t>(std::min_element(e.begin(), e.end()) - e.begin())] = true;
            solver.restart();
            continue;
        }
        for (int k = 0; k < 3; ++k) {
            const auto s = static_cast<std::size_t>(k);
            if (found[s] != 0) upper[s] = !upper[s];
            if (found[s + 3] != 0) lower[s] = !lower[s];
            if (!upper[s] && !lower[s]) solver.x()[k] = 0;
        }
        if (upper == std::array<bool, 3>{} || lower == std::array<bool, 3>{}) {
            upper = lower = {};
            std::fill(solver.x(), solver.x() + 4, 0.0);
        }
        solver.restart();
        if (++events > 100'000) std::exit(1);
    }
}

}  // namespace hedgerow::bench

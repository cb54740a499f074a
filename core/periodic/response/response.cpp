#include "periodic/response/response.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <Eigen/Dense>

#include "periodic/response/tone.h"
#include "periodic/settle/coordinates.h"
#include "periodic/settle/scout.h"

namespace hedgerow {

namespace {

using Complex = std::complex<double>;
using ComplexVector = Eigen::VectorXcd;

constexpr Complex j{0, 1};

Error stopped() { return {ErrorCode::stop, "stopped"}; }

/// Runs of one period about the periodic state, with a tone.
class Orbit {
public:
    Orbit(const Engine& engine, const Network& network, const RunRequest& run, const Settled& settled,
          std::size_t outputs, const CancelToken& cancel)
        : settled_(settled), outputs_(outputs), cancel_(cancel) {
        RunRequest all = run;
        all.end = toTicks(longestRunSeconds);
        all.instants.clear(), all.tolerances.clear();
        all.startStates.clear(), all.startMemories.clear();
        simulation_ = engine.begin(network, all, nothing_, cancel);
        at_ = settle::valuesOf(settled.section, settled.coordinates);
    }
    struct Answer {
        Eigen::VectorXd state;  ///< after the period
        ComplexVector integrals;
    };
    /// @param deviation  of the state at the beginning, by coordinate  @param tone  its value there
    Result<Answer> run(const Eigen::VectorXd& deviation, Complex tone) {
        Snapshot from = settled_.section;
        for (std::size_t i = 0; i < settled_.coordinates.size(); ++i) {
            const auto k = static_cast<Eigen::Index>(i);
            if (deviation(k) != 0) settle::setValue(from, settled_.coordinates[i], at_(k) + deviation(k));
        }
        response::setTone(from, tone);
        response::clearIntegrators(from, outputs_);
        const Tick end = toTick(toFine(from.t) + settled_.period);
        if (auto begun = simulation_->start(from); !begun) return begun.error();
        if (simulation_->advance(end) != RunEnd::finished) {
            if (cancel_.cancelled()) return stopped();
            const RunSummary summary = simulation_->summary();
            return summary.error ? *summary.error : stopped();
        }
        const Snapshot there = simulation_->snapshot();
        Answer answer{settle::valuesOf(there, settled_.coordinates),
                      ComplexVector(static_cast<Eigen::Index>(outputs_))};
        for (std::size_t i = 0; i < outputs_; ++i)
            answer.integrals(static_cast<Eigen::Index>(i)) = response::integral(there, i);
        return answer;
    }
    /// Half the difference of two runs that deviate to both sides.
    Result<Answer> central(const Eigen::VectorXd& deviation, Complex tone) {
        auto plus = run(deviation, tone);
        if (!plus) return plus.error();
        auto minus = run(-deviation, -tone);
        if (!minus) return minus.error();
        return Answer{(plus->state - minus->state) / 2, (plus->integrals - minus->integrals) / 2};
    }

private:
    const Settled& settled_;
    std::size_t outputs_;
    CancelToken cancel_;
    settle::NoPoints nothing_;
    std::unique_ptr<Simulation> simulation_;
    Eigen::VectorXd at_;
};

/// The response at one frequency.
class AtFrequency {
public:
    AtFrequency(Orbit& orbit, const Settled& settled, double frequency, double small, double most)
        : orbit_(orbit), settled_(settled), small_(small), most_(most) {
        const auto n = static_cast<Eigen::Index>(settled.coordinates.size());
        map_.resize(n, n);
        size_.resize(n);
        for (Eigen::Index i = 0; i < n; ++i) {
            size_(i) = settled.sizes[static_cast<std::size_t>(i)];
            for (Eigen::Index k = 0; k < n; ++k) map_(i, k) = settled.map[static_cast<std::size_t>(i * n + k)];
        }
        // The turns of the tone in a period, without the whole ones.
        seconds_ = toSeconds(toTick(toFine(settled.section.t) + settled.period) - settled.section.t);
        const long double turns = static_cast<long double>(frequency) * static_cast<long double>(seconds_);
        turn_ = std::polar(1.0, 2 * std::numbers::pi * static_cast<double>(turns - std::floor(turns)));
    }
    Result<std::vector<Complex>> find() {
        const Eigen::Index n = size_.size();
        const Eigen::VectorXd none = Eigen::VectorXd::Zero(n);
        // As large as moves the state by a small part of its size.
        double amplitude = 1e-6;
        for (int pass = 0; pass < 2; ++pass) {
            auto trial = orbit_.central(none, amplitude);
            if (!trial) return trial.error();
            const double moved = n > 0 ? cleaned(trial->state).cwiseQuotient(size_).cwiseAbs().maxCoeff() : 0.0;
            amplitude = std::clamp(moved > 0 ? amplitude * small_ / moved : most_, 1e-9, most_);
        }
        auto cosine = orbit_.central(none, amplitude), sine = orbit_.central(none, -j * amplitude);
        if (!cosine) return cosine.error();
        if (!sine) return sine.error();
        const ComplexVector b =
            (cleaned(cosine->state).cast<Complex>() + j * cleaned(sine->state).cast<Complex>()) / amplitude;
        Eigen::MatrixXcd a = -map_.cast<Complex>();
        a.diagonal().array() += turn_;
        // By size, for the sake of the pivots.
        a = (size_.cwiseInverse().cast<Complex>().asDiagonal() * a * size_.cast<Complex>().asDiagonal()).eval();
        const ComplexVector x =
            a.fullPivLu().solve(b.cwiseQuotient(size_.cast<Complex>())).cwiseProduct(size_.cast<Complex>());
        double deviates = 0;
        if (n > 0) deviates = x.cwiseQuotient(size_.cast<Complex>()).cwiseAbs().maxCoeff();
        const double smaller = deviates > 0 ? std::min(amplitude, small_ / deviates) : amplitude;
        auto real = orbit_.central(x.real() * smaller, smaller),
             imaginary = orbit_.central(x.imag() * smaller, -j * smaller);
        if (!real) return real.error();
        if (!imaginary) return imaginary.error();
        std::vector<Complex> all;
        for (Eigen::Index i = 0; i < real->integrals.size(); ++i)
            all.push_back((real->integrals(i) + j * imaginary->integrals(i)) / (turn_ * seconds_ * smaller));
        return all;
    }

private:
    static Eigen::VectorXd cleaned(const Eigen::VectorXd& state) {
        return state.unaryExpr([](double value) { return std::isfinite(value) ? value : 0.0; });
    }

    Orbit& orbit_;
    const Settled& settled_;
    double small_, most_;  ///< part of the size of the state, by which a tone moves it; largest amplitude
    Eigen::MatrixXd map_;
    Eigen::VectorXd size_;
    double seconds_ = 0;
    Complex turn_;
};

double smallOf(const Engine& engine) { return engine.exact() ? 1e-4 : 3e-3; }

}  // namespace

Result<ResponseTable> respond(const Engine& engine, const std::function<Result<Network>()>& network,
                              const ResponseRequest& request, const CancelToken& cancel) {
    auto plain = network();
    if (!plain) return plain.error();
    SettleRequest search{.run = request.run,
                         .period = static_cast<double>(static_cast<long double>(request.period) * 0x1p-86L),
                         .start = request.start};
    search.run.startStates.clear(), search.run.startMemories.clear(), search.run.tolerances.clear();
    // Small differences of what steps give want small errors of the steps.
    constexpr double fineSteps = 1e-5;
    RunRequest run = request.run;
    if (!engine.exact()) run.traceTolerance = std::min(run.traceTolerance, fineSteps);
    search.run.traceTolerance = run.traceTolerance;
    search.tolerance = engine.exact() ? 1e-9 : 1e-5;
    search.fine = true;
    const auto settled = settlePeriodic(engine, *plain, search, cancel);
    if (!settled) return settled.error();
    // A tone may be so large against what there is of its kind.
    double size = request.unit.empty() ? 1.0 : 1e-3;
    for (std::size_t i = 0; i < settled->coordinates.size(); ++i)
        if (!request.unit.empty() && settled->coordinates[i].unit == request.unit)
            size = std::max(size, settled->sizes[i]);
    const double most = (engine.exact() ? 1e-3 : 1e-2) * size;
    ResponseTable table;
    for (const double frequency : request.frequencies) {
        if (cancel.cancelled()) return stopped();
        auto toned = network();
        if (!toned) return toned.error();
        if (auto added = response::addTone(*toned, 2 * std::numbers::pi * frequency, request.outputs); !added)
            return added.error();
        Orbit orbit(engine, *toned, run, *settled, request.outputs.size(), cancel);
        auto row = AtFrequency(orbit, *settled, frequency, smallOf(engine), most).find();
        if (!row) return row.error();
        if (request.found) request.found(table.size(), *row);
        table.push_back(std::move(*row));
        if (request.progress) request.progress(table.size());
    }
    return table;
}

namespace {

/// Periods of the circuit in which a tone makes a whole number of its own, as nearly as within a few hundred.
int wholePeriods(double turns) {
    // A few of its own at least, where it is slow.
    const int most = std::max(400, static_cast<int>(std::ceil(8 / turns)));
    int best = most;
    double least = 1;
    for (int n = 1; n <= most; ++n) {
        const double off = std::abs(n * turns - std::round(n * turns));
        if (std::round(n * turns) >= 1 && off < least - 1e-9) least = off, best = n;
    }
    return best;
}

/// The answer to a tone of one amplitude, window after window until it stays.
class LockIn {
public:
    LockIn(const Engine& engine, const Network& network, const ResponseRequest& request, double frequency,
           const CancelToken& cancel)
        : request_(request), frequency_(frequency), cancel_(cancel) {
        RunRequest all = request.run;
        all.end = toTicks(longestRunSeconds);
        all.instants.clear(), all.tolerances.clear();
        all.startStates.clear(), all.startMemories.clear();
        const double seconds = static_cast<double>(static_cast<long double>(request.period) * 0x1p-86L);
        periods_ = wholePeriods(frequency * seconds);
        for (Simulation*& one : both_) {
            simulations_.push_back(engine.begin(network, all, nothing_, cancel));
            one = simulations_.back().get();
        }
    }
    Result<std::vector<Complex>> find(double amplitude) {
        constexpr int mostWindows = 2000;
        constexpr double enough = 1e-7;
        for (const int side : {0, 1}) {
            Snapshot from = request_.start;
            response::setTone(from, side == 0 ? amplitude : -amplitude);
            response::clearIntegrators(from, request_.outputs.size());
            if (auto begun = both_[side]->start(from); !begun) return begun.error();
        }
        std::vector<Complex> before(request_.outputs.size()), sums = before;
        int calm = 0;
        for (int window = 1; window <= mostWindows; ++window) {
            const FineTime end = request_.period * periods_ * window;
            const Tick from = toTick(request_.period * periods_ * (window - 1)), to = toTick(end);
            std::vector<Complex> now(request_.outputs.size());
            for (const int side : {0, 1}) {
                if (both_[side]->advance(to) != RunEnd::finished) {
                    if (cancel_.cancelled()) return stopped();
                    const RunSummary summary = both_[side]->summary();
                    return summary.error ? *summary.error : stopped();
                }
                const Snapshot there = both_[side]->snapshot();
                for (std::size_t i = 0; i < now.size(); ++i)
                    now[i] += (side == 0 ? 1.0 : -1.0) * response::integral(there, i) / 2.0;
            }
            // What came in this window, against the tone at its beginning: of a real tone half turns this way.
            const double wide = toSeconds(to - from);
            const Complex turned = turnOf(toSeconds(to)), turnedBefore = turnOf(toSeconds(from));
            std::vector<Complex> answer(now.size());
            double change = 0, size = 0;
            for (std::size_t i = 0; i < now.size(); ++i) {
                answer[i] = (now[i] / turned - sums[i] / turnedBefore) * 2.0 / (wide * amplitude);
                change = std::max(change, std::abs(answer[i] - before[i]));
                size = std::max(size, std::abs(answer[i]));
            }
            sums = now;
            before = answer;
            calm = change <= enough * size ? calm + 1 : 0;
            if (calm >= 2) return answer;
        }
        return before;
    }

private:
    Complex turnOf(double seconds) const {
        const long double turns = static_cast<long double>(frequency_) * static_cast<long double>(seconds);
        return std::polar(1.0, 2 * std::numbers::pi * static_cast<double>(turns - std::floor(turns)));
    }
    const ResponseRequest& request_;
    double frequency_;
    CancelToken cancel_;
    int periods_ = 1;
    settle::NoPoints nothing_;
    std::vector<std::unique_ptr<Simulation>> simulations_;
    Simulation* both_[2] = {nullptr, nullptr};
};

}  // namespace

Result<ResponseTable> respondByTone(const Engine& engine, const std::function<Result<Network>()>& network,
                                    const ResponseRequest& request, double amplitude, const CancelToken& cancel) {
    ResponseTable table;
    for (const double frequency : request.frequencies) {
        auto toned = network();
        if (!toned) return toned.error();
        if (auto added = response::addTone(*toned, 2 * std::numbers::pi * frequency, request.outputs); !added)
            return added.error();
        auto row = LockIn(engine, *toned, request, frequency, cancel).find(amplitude);
        if (!row) return row.error();
        if (request.found) request.found(table.size(), *row);
        table.push_back(std::move(*row));
        if (request.progress) request.progress(table.size());
    }
    return table;
}

}  // namespace hedgerow

// The general solver gets its best: the sparse Jacobian of the engine's own elements, edges as exact stop times, and at
// each event the consistent values that the engine's commutation finds. It stores nothing.

#include "dae_solver.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <span>
#include <vector>

#include <ida/ida.h>
#include <nvector/nvector_serial.h>
#include <sunlinsol/sunlinsol_klu.h>
#include <sunmatrix/sunmatrix_sparse.h>

#include "engines/adaptive/switching.h"
#include "network/clock.h"

namespace hedgerow::bench {

namespace {

using implicit::Instant;
using implicit::Values;

void need(int code, const char* what) {
    if (code >= 0) return;
    std::fprintf(stderr, "%s: %d\n", what, code);
    std::exit(1);
}

/// y = [x; z]:  x' - K z = 0,  F z + g(z, x) - Hx x - Bw w = 0.
class Equations {
public:
    explicit Equations(const Network& network)
        : network_(network),
          states_(network.states.size()),
          unknowns_(static_cast<std::size_t>(network.unknownCount())),
          stamp_(network.nodeCount()),
          w_(static_cast<std::size_t>(network.sourceCount), 0.0) {
        for (const auto& element : network.elements)
            if (element->smooth()) smooth_.push_back(element.get());
    }
    std::size_t size() const { return states_ + unknowns_; }
    std::size_t states() const { return states_; }

    void configure(const std::vector<int>& segments) {
        linear_ = LinearStamp(network_.nodeCount());
        for (std::size_t i = 0; i < segments.size(); ++i) network_.elements[i]->stamp(linear_, segments[i]);
        for (const Triplet& entry : linear_.e) linear_.f.push_back({entry.row, entry.column, 1e-14 * entry.value});
    }
    void setHeld(const std::vector<double>& signals) {
        for (const HeldSource& held : network_.heldSources)
            w_[static_cast<std::size_t>(held.source)] = signals[static_cast<std::size_t>(held.signal)];
    }

    void residual(double t, const double* y, const double* rate, double* r) {
        sources(t);
        const double *x = y, *z = y + states_;
        double* const rz = r + states_;
        std::fill(r, r + size(), 0.0);
        for (std::size_t i = 0; i < states_; ++i) r[i] = rate[i];
        for (const Triplet& e : linear_.k) r[e.row] -= e.value * z[e.column];
        for (const Triplet& e : linear_.f) rz[e.row] += e.value * z[e.column];
        for (const Triplet& e : linear_.hx) rz[e.row] -= e.value * x[e.column];
        for (const Triplet& e : linear_.bw) rz[e.row] -= e.value * w_[static_cast<std::size_t>(e.column)];
        evaluate(y);
        for (const auto& e : stamp_.flows)
            if (e.row >= 0) rz[e.row] += e.value;
    }

    /// All entries of dF/dy + cj dF/dy', in an order that depends on the configuration only.
    template <class Put>
    void jacobian(const double* y, double cj, const Put& put) {
        evaluate(y);
        const int nx = static_cast<int>(states_);
        for (int i = 0; i < nx; ++i) put(i, i, cj);
        for (const Triplet& e : linear_.k) put(e.row, nx + e.column, -e.value);
        for (const Triplet& e : linear_.f) put(nx + e.row, nx + e.column, e.value);
        for (const Triplet& e : linear_.hx) put(nx + e.row, e.column, -e.value);
        for (const auto& e : stamp_.unknowns)
            if (e.row >= 0 && e.column >= 0) put(nx + e.row, nx + e.column, e.value);
        for (const auto& e : stamp_.states)
            if (e.row >= 0 && e.column >= 0) put(nx + e.row, e.column, e.value);
    }

private:
    void evaluate(const double* y) {
        stamp_.clear();
        for (const Element* element : smooth_) element->evaluate({{y + states_, unknowns_}, {y, states_}}, stamp_);
    }
    void sources(double t) {
        for (std::size_t i = 0; i < network_.sources.size(); ++i)
            network_.sources[i]->valueAt(toTicks(t),
                                         std::span(w_).subspan(static_cast<std::size_t>(network_.sourceOffsets[i]),
                                                               static_cast<std::size_t>(network_.sources[i]->size())));
        w_[0] = 1;
    }

    const Network& network_;
    std::size_t states_, unknowns_;
    std::vector<const Element*> smooth_;
    LinearStamp linear_{0};
    SmoothStamp stamp_;
    Values w_;
};

class Solver {
public:
    Solver(const Network& network, double tolerance)
        : network_(network),
          equations_(network),
          system_(network),
          scales_(network),
          stepper_(system_, adaptive::esdirk4(), scales_, 1e-5),
          switching_(system_, stepper_, scales_),
          clock_(network),
          tolerance_(tolerance) {}
    ~Solver() {
        IDAFree(&memory_);
        SUNLinSolFree(linear_);
        SUNMatDestroy(matrix_);
        for (N_Vector vector : {y_, rate_, absolute_, id_}) N_VDestroy(vector);
        SUNContext_Free(&context_);
    }
    Solver(const Solver&) = delete;
    Solver& operator=(const Solver&) = delete;

    DaeOutcome solve(double end, long outputs) {
        const Stopwatch watch;
        begin();
        double t = 0;
        bool finished = true;
        long written = 0;
        std::vector<double> stored;
        while (t < end && finished) {
            const double stop = std::min(end, toSeconds(clock_.next()));
            const double output =
                outputs > 0 ? end * static_cast<double>(written + 1) / static_cast<double>(outputs) : end;
            need(IDASetStopTime(memory_, stop), "stop time");
            const int code = IDASolve(memory_, std::min(stop, output), &t, y_, rate_, IDA_NORMAL);
            finished = code >= 0;
            if (finished && outputs > 0 && t >= output) {
                ++written;
                stored.push_back(t);
                stored.insert(stored.end(), NV_DATA_S(y_), NV_DATA_S(y_) + equations_.size());
                if (t < stop) continue;
            }
            if (!finished || t >= end) break;
            if (code == IDA_ROOT_RETURN)
                crossed();
            else
                arrived(t);
            settle(t);
        }
        DaeOutcome outcome;
        outcome.finished = finished;
        outcome.states.assign(NV_DATA_S(y_), NV_DATA_S(y_) + equations_.states());
        IDAGetNumSteps(memory_, &outcome.steps);
        outcome.steps += stepsBefore_;
        outcome.seconds = watch.seconds();
        return outcome;
    }

private:
    void begin() {
        SUNContext_Create(nullptr, &context_);
        const auto n = static_cast<sunindextype>(equations_.size());
        y_ = N_VNew_Serial(n, context_);
        for (N_Vector* vector : {&rate_, &absolute_, &id_}) *vector = N_VClone(y_);
        for (const StateInfo& state : network_.states) now_.x.push_back(state.initial);
        now_.z.assign(system_.unknowns(), 0.0);
        std::vector<int> segments;
        for (std::size_t i = 0; i < network_.elements.size(); ++i) {
            gateOn_.push_back(clock_.gate(i));
            segments.push_back(network_.elements[i]->initialSegment(gateOn_.back()));
        }
        switching_.set(segments);
        commutate(0);
        memory_ = IDACreate(context_);
        need(IDAInit(memory_, &Solver::residual, 0.0, y_, rate_), "init");
        tolerances();
        need(IDASetUserData(memory_, this), "user data");
        findPattern();
        linear_ = SUNLinSol_KLU(y_, matrix_, context_);
        need(IDASetLinearSolver(memory_, linear_, matrix_), "linear solver");
        need(IDASetJacFn(memory_, &Solver::jacobian), "jacobian");
        IDASetMaxNumSteps(memory_, 10'000'000);
        need(IDASetId(memory_, id_), "id");
        // Errors count for states only, as they do in the engine.
        need(IDASetSuppressAlg(memory_, SUNTRUE), "suppress");
        IDASetNoInactiveRootWarn(memory_);
        roots();
    }

    void commutate(double t) {
        clockSignals();
        if (auto settled = switching_.settle(now_, toTicks(t), "at an event"); !settled) {
            std::fprintf(stderr, "%s\n", settled.error().message.c_str());
            std::exit(1);
        }
        equations_.configure(switching_.segments());
        equations_.setHeld(clock_.signals());
        std::copy(now_.x.begin(), now_.x.end(), NV_DATA_S(y_));
        std::copy(now_.z.begin(), now_.z.end(), NV_DATA_S(y_) + equations_.states());
        N_VConst(0.0, rate_);
        Values rates(equations_.states());
        system_.rates(now_.z, rates);
        std::copy(rates.begin(), rates.end(), NV_DATA_S(rate_));
        scales_.see(now_.z, now_.x);
    }
    void clockSignals() { stepper_.newton().setHeld(clock_.signals()); }

    void settle(double t) {
        take();
        commutate(t);
        long steps = 0;
        IDAGetNumSteps(memory_, &steps);
        stepsBefore_ += steps;
        need(IDAReInit(memory_, t, y_, rate_), "restart");
        tolerances();
        findPattern();
        need(SUNLinSol_KLUReInit(linear_, matrix_, SM_NNZ_S(matrix_), SUNKLU_REINIT_PARTIAL), "klu");
        roots();
    }
    void take() {
        const double* y = NV_DATA_S(y_);
        now_.x.assign(y, y + equations_.states());
        now_.z.assign(y + equations_.states(), y + equations_.size());
    }

    void arrived(double t) {
        take();
        clock_.advance(toTicks(t), [this](int column) { return now_.z[static_cast<std::size_t>(column)]; });
        std::vector<int> wanted = switching_.segments();
        for (std::size_t i = 0; i < gateOn_.size(); ++i) {
            if (static_cast<bool>(gateOn_[i]) == clock_.gate(i)) continue;
            gateOn_[i] = clock_.gate(i);
            double sensed = 0;
            for (const auto& [column, factor] : network_.elements[i]->sense())
                sensed += factor * now_.z[static_cast<std::size_t>(column)];
            wanted[i] = network_.elements[i]->gated(wanted[i], gateOn_[i], sensed);
        }
        switching_.set(wanted);
    }

    void crossed() {
        std::vector<int> found(switching_.guards().size()), wanted = switching_.segments();
        IDAGetRootInfo(memory_, found.data());
        for (std::size_t i = 0; i < found.size(); ++i)
            if (found[i] < 0) wanted[switching_.guards()[i].element] = switching_.guards()[i].guard.next;
        switching_.set(wanted);
    }

    void roots() {
        const int count = static_cast<int>(switching_.guards().size());
        need(IDARootInit(memory_, count, count > 0 ? &Solver::root : nullptr), "roots");
    }

    void tolerances() {
        double *absolute = NV_DATA_S(absolute_), *id = NV_DATA_S(id_);
        for (std::size_t i = 0; i < equations_.size(); ++i) {
            const bool state = i < equations_.states();
            id[i] = state ? 1 : 0;
            absolute[i] = tolerance_ * (state ? scales_.ofState(i) : scales_.ofUnknown(i - equations_.states()));
        }
        need(IDASVtolerances(memory_, tolerance_, absolute_), "tolerances");
    }

    /// Where the entries of the Jacobian go.
    void findPattern() {
        std::vector<std::pair<int, int>> places;  // column, row
        equations_.jacobian(NV_DATA_S(y_), 1.0, [&](int row, int column, double) { places.emplace_back(column, row); });
        std::vector<std::pair<int, int>> sorted = places;
        std::sort(sorted.begin(), sorted.end());
        sorted.erase(std::unique(sorted.begin(), sorted.end()), sorted.end());
        const auto n = static_cast<sunindextype>(equations_.size());
        const auto count = static_cast<sunindextype>(sorted.size());
        if (!matrix_)
            matrix_ = SUNSparseMatrix(n, n, count, CSC_MAT, context_);
        else if (SM_NNZ_S(matrix_) < count)
            SUNSparseMatrix_Reallocate(matrix_, count);
        slots_.clear();
        for (const auto& place : places)
            slots_.push_back(
                static_cast<std::size_t>(std::lower_bound(sorted.begin(), sorted.end(), place) - sorted.begin()));
        columns_.assign(equations_.size() + 1, 0);
        rows_.clear();
        for (const auto& [column, row] : sorted) {
            ++columns_[static_cast<std::size_t>(column) + 1];
            rows_.push_back(row);
        }
        for (std::size_t i = 1; i < columns_.size(); ++i) columns_[i] += columns_[i - 1];
        writePattern(matrix_);
    }
    void writePattern(SUNMatrix matrix) const {
        std::copy(columns_.begin(), columns_.end(), SM_INDEXPTRS_S(matrix));
        std::copy(rows_.begin(), rows_.end(), SM_INDEXVALS_S(matrix));
    }

    static int residual(double t, N_Vector y, N_Vector rate, N_Vector r, void* self) {
        static_cast<Solver*>(self)->equations_.residual(t, NV_DATA_S(y), NV_DATA_S(rate), NV_DATA_S(r));
        return 0;
    }
    static int jacobian(double, double cj, N_Vector y, N_Vector, N_Vector, SUNMatrix matrix, void* data, N_Vector,
                        N_Vector, N_Vector) {
        Solver& self = *static_cast<Solver*>(data);
        self.writePattern(matrix);
        double* const values = SM_DATA_S(matrix);
        std::fill(values, values + self.rows_.size(), 0.0);
        const std::size_t* slot = self.slots_.data();
        self.equations_.jacobian(NV_DATA_S(y), cj, [&](int, int, double value) { values[*slot++] += value; });
        return 0;
    }
    static int root(double, N_Vector y, N_Vector, double* values, void* data) {
        const Solver& self = *static_cast<const Solver*>(data);
        const double* const z = NV_DATA_S(y) + self.equations_.states();
        for (const auto& active : self.switching_.guards()) {
            double value = active.guard.constant;
            for (const auto& [column, factor] : active.guard.terms) value += factor * z[column];
            *values++ = value;
        }
        return 0;
    }

    const Network& network_;
    Equations equations_;
    implicit::System system_;
    implicit::Scales scales_;
    adaptive::Stepper stepper_;
    adaptive::Switching switching_;
    Clock clock_;
    double tolerance_;
    Instant now_;
    std::vector<char> gateOn_;
    long stepsBefore_ = 0;
    std::vector<std::size_t> slots_;
    std::vector<sunindextype> columns_, rows_;
    SUNContext context_ = nullptr;
    N_Vector y_ = nullptr, rate_ = nullptr, absolute_ = nullptr, id_ = nullptr;
    SUNMatrix matrix_ = nullptr;
    SUNLinearSolver linear_ = nullptr;
    void* memory_ = nullptr;
};

}  // namespace

DaeOutcome solveDae(const Network& network, double end, double tolerance, long outputs) {
    return Solver(network, tolerance).solve(end, outputs);
}

}  // namespace hedgerow::bench

#include "network/elaborate.h"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "base/text.h"
#include "model/rung_rule.h"
#include "network/changes.h"
#include "network/checks.h"
#include "network/injection.h"
#include "network/layout.h"
#include "network/task.h"

namespace hedgerow {

namespace {

/// A column of z that follows a held signal.
class HeldColumn final : public Element {
public:
    HeldColumn(std::string part, int column, int source) : Element(std::move(part)), column_(column), source_(source) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(column_, column_, 1.0);
        s.source(column_, source_, 1.0);
    }

private:
    int column_, source_;
};

/// column = factor * terms + offset.
class Measured final : public Element {
public:
    Measured(std::string part, int column, Terms terms, double factor, double offset)
        : Element(std::move(part)), column_(column), terms_(std::move(terms)), factor_(factor), offset_(offset) {}
    void stamp(LinearStamp& s, int) const override {
        s.unknown(column_, column_, 1.0);
        for (const auto& [column, share] : terms_) s.unknown(column_, column, -factor_ * share);
        if (offset_ != 0) s.source(column_, 0, offset_);
    }

private:
    int column_;
    Terms terms_;
    double factor_, offset_;
};

/// Writes one part after the other into a network.
class Builder final : public NetworkBuilder {
public:
    Builder(const Project& project, const PartLibrary& library, const ParameterTable& parameters, const Ramps& ramps,
            Elaboration& result)
        : project_(project),
          library_(library),
          parameters_(parameters),
          ramps_(ramps),
          result_(result),
          network_(result.network) {}

    void all() {
        numberNets();
        for (const Part& part : project_.sheet().parts) {
            at(part);
            behindLayout_ = layoutOf(*this, *kind_);
            library_.find(part.kind)->elaborate(*this);
            behindLayout_.clear();
            network_.dynamic = network_.dynamic || rung() >= 3;
        }
        finishTasks();
        finishMeasurements();
        orderSignalBlocks();
    }
    const std::vector<Error>& errors() const { return errors_; }

    int node(std::string_view pin) const override {
        const auto inner = behindLayout_.find(pin);
        return inner != behindLayout_.end() ? inner->second : result_.nodeOfNet[static_cast<std::size_t>(netAt(pin))];
    }
    int signal(std::string_view pin) const override {
        const auto net = static_cast<std::size_t>(netAt(pin));
        if (signalOfNet_[net] < 0 && columnOfNet_[net] >= 0)
            errors_.push_back({ErrorCode::connection,
                               fmt::format("{}.{} is switched by edges, but the signal there runs: put a comparator or "
                                           "a modulator between",
                                           part_->name, pin),
                               part_->name});
        return signalOfNet_[net];
    }
    SignalInput input(std::string_view pin) const override { return inputAt(netAt(pin)); }
    int column(std::string_view pin) override {
        const auto net = static_cast<std::size_t>(netAt(pin));
        if (columnOfNet_[net] < 0 && signalOfNet_[net] >= 0) {
            columnOfNet_[net] = addColumn();
            network_.heldSources.push_back({network_.sourceCount++, signalOfNet_[net]});
            addElement(
                std::make_unique<HeldColumn>(part_->name, columnOfNet_[net], network_.heldSources.back().source));
        }
        return columnOfNet_[net];
    }
    double value(std::string_view key) const override {
        auto value = partValue(*part_, *kind_, key, parameters_.lookup());
        return value ? *value : 0.0;  // the checks ran before: it has one
    }
    int rampOf(std::string_view key) override {
        const auto found = ramps_.find({part_->name, std::string(key)});
        if (found == ramps_.end() || (found->second.steps && !hasPowerPin())) return -1;
        return addSource(rampWave(found->second));
    }
    bool hasPowerPin() const {
        return std::any_of(kind_->pins.begin(), kind_->pins.end(),
                           [](const PinKind& pin) { return pin.sort == PinSort::power; });
    }
    std::string choice(std::string_view key) const override {
        auto word = partChoice(*part_, *kind_, key);
        return word ? *word : "";
    }
    std::string text(std::string_view key) const override { return textValue(*part_, *kind_, key); }
    std::vector<double> numbers(std::string_view key) const override {
        std::vector<double> result;
        const std::string list = text(key);
        for (std::size_t start = 0; start <= list.size();) {
            const std::size_t end = std::min(list.find_first_of(",;", start), list.size());
            result.push_back(number(key, std::string_view(list).substr(start, end - start)));
            start = end + 1;
        }
        return result;
    }
    double number(std::string_view key, std::string_view text) const override {
        auto value = evaluate(text, parameters_.lookup());
        if (value) return value->value;
        refuse(key, fmt::format("'{}': {}", trimmed(text), value.error().message));
        return 0.0;
    }
    void refuse(std::string_view key, std::string message) const override {
        errors_.push_back(
            {ErrorCode::range, fmt::format("{}: {}", part_->name, message), part_->name, {}, std::string(key)});
    }
    const ProjectFolder& folder() const override { return project_.folder; }
    bool typed(std::string_view key) const override { return part_->values.find(key) != nullptr; }
    int nodeCount() const override { return network_.nodeCount(); }
    int rung() const override { return kind_->rungAtOrBelow(part_->rung).rung; }
    const std::string& partName() const override { return part_->name; }

    int addBranch() override {
        network_.branchParts.push_back(part_->name);
        network_.branchSorts.push_back(UnknownSort::current);
        return network_.branchCount++;
    }
    int addNode() override {
        const int unknown = nodeCount() + addBranch();
        network_.branchSorts.back() = UnknownSort::voltage;
        return unknown;
    }
    int addColumn() override {
        const int unknown = nodeCount() + addBranch();
        network_.branchSorts.back() = UnknownSort::signal;
        return unknown;
    }
    int addState(StateSort sort, std::string_view initialKey, double storage) override {
        if (initialKey.empty()) return addComposedState(sort, 0.0, storage, false);
        return addComposedState(sort, value(initialKey), storage, typed(initialKey));
    }
    int addHeatState(double storage) override {
        return addNamedState({.sort = StateSort::capacitorVoltage, .name = "T", .storage = storage, .heat = true});
    }
    int addComposedState(StateSort sort, double initial, double storage, bool given) override {
        const char* const name = sort == StateSort::capacitorVoltage ? "v" : sort == StateSort::windingCurrent ? "i" : "x";
        return addNamedState({.sort = sort, .name = name, .initial = initial, .storage = storage, .given = given});
    }
    /// Its name is that of its kind, with a number from the second one of the part on.
    int addNamedState(StateInfo state) {
        state.part = part_->name;
        if (const int number = ++stateNumbers_[part_->name + "." + state.name]; number > 1)
            state.name += std::to_string(number);
        network_.states.push_back(std::move(state));
        return static_cast<int>(network_.states.size()) - 1;
    }
    int addSource(std::unique_ptr<SourceGenerator> generator) override {
        const int first = network_.sourceCount;
        network_.sourceOffsets.push_back(first);
        network_.sourceParts.push_back(part_->name);
        network_.sourceCount += generator->size();
        network_.sources.push_back(std::move(generator));
        return first;
    }
    int addSignal() override { return network_.signalCount++; }
    void measure(int column, const std::string& quantity, double factor, double offset) override {
        measurements_.push_back({part_, column, quantity, factor, offset});
    }
    int addElement(std::unique_ptr<Element> element) override {
        network_.elements.push_back(std::move(element));
        return static_cast<int>(network_.elements.size()) - 1;
    }
    void addSignalBlock(std::unique_ptr<SignalBlock> block, std::vector<SignalInput> inputs,
                        std::vector<int> outputs) override {
        network_.signalBlocks.push_back({std::move(block), part_->name, std::move(inputs), std::move(outputs)});
    }
    bool sampled() const override { return kind_->findParameter("task") && !text("task").empty(); }
    void addStep(StepMaker maker, const std::vector<std::string>& inputs, const std::vector<std::string>& outputs,
                 const std::vector<std::string>& watched) override {
        const Part* task = taskOf(*part_);
        if (!task) {
            errors_.push_back({ErrorCode::name,
                               fmt::format("{}: there is no task called {}: place one (type \"task\") or clear the "
                                           "field, so that the part runs all the time",
                                           part_->name, text("task")),
                               part_->name,
                               {},
                               "task"});
            return;
        }
        PlannedTask& planned = tasks_[task];
        TaskStep step{std::move(maker),
                      part_->name,
                      {},
                      static_cast<int>(planned.outputs.size()),
                      static_cast<int>(outputs.size() + watched.size())};
        for (const std::string& pin : outputs) {
            const int net = netAt(pin);
            planned.placeOfNet[net] = static_cast<int>(planned.outputs.size());
            planned.outputs.push_back(signalOfNet_[static_cast<std::size_t>(net)]);
        }
        for (const std::string& name : watched) {
            planned.outputs.push_back(addSignal());
            offer({part_->name + "." + name, "", QuantityInfo::Sort::signal, {}, {}, planned.outputs.back()});
        }
        planned.inputNets.emplace_back();
        for (const std::string& pin : inputs) planned.inputNets.back().push_back(netAt(pin));
        planned.steps.push_back(std::move(step));
    }
    void offerVoltage(int from, int to) override {
        offer({part_->name + ".v", "V", QuantityInfo::Sort::linear, voltageBetween(from, to)});
    }
    void offerBranch(int branch, int from, int to, std::string_view suffix) override {
        offerTerminals(from, to, {{network_.nodeCount() + branch, 1.0}}, suffix);
    }
    void offerTerminals(int from, int to, Terms current, std::string_view suffix) override {
        const Terms voltage = voltageBetween(from, to);
        const std::string end(suffix);
        offer({part_->name + ".v" + end, "V", QuantityInfo::Sort::linear, voltage});
        offer({part_->name + ".i" + end, "A", QuantityInfo::Sort::linear, current});
        offer({part_->name + ".p" + end, "W", QuantityInfo::Sort::product, voltage, current});
    }
    void offerForm(std::string_view name, std::string_view unit, Terms terms, bool byValues) override {
        std::erase_if(terms, [](const auto& term) { return term.first < 0 || term.second == 0; });
        QuantityInfo quantity{part_->name + "." + std::string(name), std::string(unit)};
        quantity.a = std::move(terms), quantity.byValues = byValues;
        offer(std::move(quantity));
    }
    void offerSignal(std::string_view pin, std::string_view unit) override {
        const SignalInput at = input(pin);
        QuantityInfo quantity{part_->name + "." + std::string(pin), std::string(unit)};
        if (at.column >= 0) {
            quantity.a = {{at.column, 1.0}};
        } else {
            quantity.sort = QuantityInfo::Sort::signal;
            quantity.index = at.signal;
        }
        if (at.column >= 0 || at.signal >= 0) offer(std::move(quantity));
    }
    void offerConducting(int element, std::string_view suffix) override {
        offer({part_->name + ".on" + std::string(suffix), "", QuantityInfo::Sort::conducting, {}, {}, element});
    }
    void rate(std::string_view ratingKey, std::string_view quantity) override {
        if (!part_->values.find(ratingKey)) return;
        network_.ratings.push_back({part_->name, part_->name + "." + std::string(quantity),
                                    kind_->findParameter(ratingKey)->label, value(ratingKey)});
    }

private:
    static Terms voltageBetween(int from, int to) {
        Terms voltage;
        if (from >= 0) voltage.emplace_back(from, 1.0);
        if (to >= 0) voltage.emplace_back(to, -1.0);
        return voltage;
    }
    void offer(QuantityInfo quantity) { network_.quantities.push_back(std::move(quantity)); }

    void at(const Part& part) {
        part_ = &part;
        kind_ = library_.catalogue().find(part.kind);
    }
    int netAt(std::string_view pin) const { return result_.nets.netOfPin.at({part_->id, kind_->findPin(pin)}); }
    /// A net counts as running when its driver runs, even if a column was made for a held one.
    SignalInput inputAt(int net) const {
        const auto i = static_cast<std::size_t>(net);
        return signalOfNet_[i] >= 0 ? SignalInput{signalOfNet_[i], -1} : SignalInput{-1, columnOfNet_[i]};
    }

    /// The task a part names.
    const Part* taskOf(const Part& part) const {
        const Part* task = partNear(part, textValue(part, *library_.catalogue().find(part.kind), "task"));
        return task && task->kind == "task" ? task : nullptr;
    }
    /// The part of this name in the module of `part`, or in one around it.
    const Part* partNear(const Part& part, const std::string& name) const {
        for (std::size_t end = part.name.rfind('.');;
             end = end == 0 ? std::string::npos : part.name.rfind('.', end - 1)) {
            const Part* found =
                project_.findPart(end == std::string::npos ? name : part.name.substr(0, end + 1) + name);
            if (found) return found;
            if (end == std::string::npos) return nullptr;
        }
    }

    class Surroundings final : public SignalSurroundings {
    public:
        explicit Surroundings(const Builder& builder, const std::vector<char>& running)
            : builder_(builder), running_(running) {}
        bool runs(std::string_view pin) const override {
            return running_[static_cast<std::size_t>(builder_.netAt(pin))];
        }
        bool sampled() const override { return builder_.sampled(); }
        bool ramps(std::string_view key) const override {
            const auto found = builder_.ramps_.find({builder_.part_->name, std::string(key)});
            return found != builder_.ramps_.end() && !found->second.steps;
        }
        std::string choice(std::string_view key) const override { return builder_.choice(key); }

    private:
        const Builder& builder_;
        const std::vector<char>& running_;
    };

    /// Which nets carry signals that run. What runs makes others run, and never stops them.
    std::vector<char> runningNets() {
        std::vector<char> running(result_.nets.nets.size(), 0);
        const Surroundings around(*this, running);
        for (bool changed = true; changed;) {
            changed = false;
            for (const Part& part : project_.sheet().parts) {
                at(part);
                if (!library_.find(part.kind)->outputsRun(around)) continue;
                for (const PinKind& pin : kind_->pins) {
                    if (pin.sort != PinSort::signalOut) continue;
                    char& net = running[static_cast<std::size_t>(netAt(pin.name))];
                    changed = changed || !net;
                    net = 1;
                }
            }
        }
        return running;
    }

    /// Each task becomes one block.
    void finishTasks() {
        std::vector<std::pair<double, const Part*>> order;
        for (const auto& [task, planned] : tasks_) {
            at(*task);
            order.emplace_back(value("priority"), task);
        }
        std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        for (const auto& [priority, task] : order) {
            PlannedTask& planned = tasks_[task];
            at(*task);
            std::map<int, int> shared;  // input of each net
            std::vector<SignalInput> inputs;
            for (std::size_t i = 0; i < planned.steps.size(); ++i) {
                for (const int net : planned.inputNets[i]) {
                    TaskStep::Origin origin;
                    const SignalInput from = inputAt(net);
                    if (const auto own = planned.placeOfNet.find(net); own != planned.placeOfNet.end()) {
                        origin.local = own->second;
                    } else if (from.signal >= 0 || from.column >= 0) {
                        const auto [place, first] = shared.emplace(net, static_cast<int>(inputs.size()));
                        if (first) inputs.push_back(from);
                        origin.input = place->second;
                    }
                    planned.steps[i].inputs.push_back(origin);
                }
            }
            TaskOrder order = orderSteps(planned.steps);
            if (!order.loop.empty()) {
                errors_.push_back({ErrorCode::connection,
                                   fmt::format("{} of task {} feed each other within one sample: put a unit delay into "
                                               "the loop",
                                               listed(order.loop), task->name),
                                   order.loop.front()});
                continue;
            }
            std::vector<TaskStep> steps;
            for (const std::size_t i : order.order) steps.push_back(std::move(planned.steps[i]));
            const TaskSetting setting = settingOf(*task);
            at(*task);
            addSignalBlock(std::make_unique<TaskBlock>(setting, std::move(steps), planned.outputs.size()),
                           std::move(inputs), planned.outputs);
        }
    }

    /// When a task runs: by its own period, or with the carrier of a modulator.
    TaskSetting settingOf(const Part& task) {
        at(task);
        TaskSetting set{value("period"), value("offset"), value("delay")};
        const std::string carrier = text("carrier"), name = task.name;
        if (carrier.empty()) return set;
        const double times = std::max(1.0, std::round(value("times")));
        const Part* modulator = partNear(task, carrier);
        const PartKind* kind = modulator ? library_.catalogue().find(modulator->kind) : nullptr;
        if (!kind || !kind->findParameter("f") || !kind->findParameter("phase")) {
            refuse("carrier", fmt::format("{} is no modulator with a carrier", carrier));
            return set;
        }
        at(*modulator);
        set.period = 1 / value("f") / times;
        set.offset += value("phase") / value("f");
        if (set.offset < 0) set.offset += std::ceil(-set.offset / set.period) * set.period;
        return set;
    }

    /// Measured quantities, once all are known.
    void finishMeasurements() {
        for (const Measurement& m : measurements_) {
            at(*m.part);
            const QuantityInfo* quantity = nullptr;
            for (std::size_t end = part_->name.rfind('.'); !quantity;
                 end = end == 0 ? std::string::npos : part_->name.rfind('.', end - 1)) {
                const std::string name =
                    end == std::string::npos ? m.quantity : part_->name.substr(0, end + 1) + m.quantity;
                quantity = network_.findQuantity(name);
                if (end == std::string::npos) break;
            }
            Terms terms;
            if (!quantity) {
                refuse("of", fmt::format("the circuit has no quantity '{}': write a net as out.v, a part as L1.i",
                                         m.quantity));
            } else if (quantity->sort == QuantityInfo::Sort::linear) {
                terms = quantity->a;
            } else if (quantity->sort == QuantityInfo::Sort::signal) {
                refuse("of", fmt::format("'{}' is a signal already: wire it", m.quantity));
            } else {
                refuse("of", fmt::format("'{}' is not linear: multiply a measured voltage and a measured current",
                                         m.quantity));
            }
            addElement(std::make_unique<Measured>(part_->name, m.column, std::move(terms), m.factor, m.offset));
        }
    }

    /// A power pin that may stay open, and does: it is at the reference.
    bool isOpenInput(const Net& net) const {
        if (net.pins.size() != 1) return false;
        const auto part = std::find_if(project_.sheet().parts.begin(), project_.sheet().parts.end(),
                                       [&](const Part& p) { return p.id == net.pins.front().part; });
        if (part == project_.sheet().parts.end()) return false;
        const PinKind& pin =
            library_.catalogue().find(part->kind)->pins[static_cast<std::size_t>(net.pins.front().pin)];
        return pin.sort == PinSort::power && pin.optional;
    }

    void numberNets() {
        const NetList& nets = result_.nets;
        result_.nodeOfNet.assign(nets.nets.size(), -1);
        signalOfNet_.assign(nets.nets.size(), -1);
        columnOfNet_.assign(nets.nets.size(), -1);
        std::set<int> references;
        for (const Part& part : project_.sheet().parts) {
            const PartKind& kind = *library_.catalogue().find(part.kind);
            if (std::count_if(kind.pins.begin(), kind.pins.end(),
                              [](const PinKind& p) { return p.sort == PinSort::power; }) == 1)
                references.insert(nets.netOfPin.at({part.id, 0}));
        }
        for (std::size_t i = 0; i < nets.nets.size(); ++i) {
            const Net& net = nets.nets[i];
            if (net.pins.empty() || references.contains(static_cast<int>(i)) || isOpenInput(net)) continue;
            if (isPowerNet(net, project_.sheet(), library_.catalogue())) {
                result_.nodeOfNet[i] = network_.nodeCount();
                network_.nodes.push_back(net.name);
                offer({net.name + ".v", "V", QuantityInfo::Sort::linear, {{result_.nodeOfNet[i], 1.0}}});
            }
        }
        // Columns come behind the nodes, so that these must be known.
        const std::vector<char> running = runningNets();
        for (std::size_t i = 0; i < nets.nets.size(); ++i) {
            const Part* driver = driverOf(nets.nets[i]);
            if (!driver || result_.nodeOfNet[i] >= 0) continue;
            at(*driver);
            if (running[i])
                columnOfNet_[i] = addColumn();
            else
                signalOfNet_[i] = network_.signalCount++;
        }
    }

    const Part* driverOf(const Net& net) const {
        for (const PinRef& ref : net.pins) {
            const Part* part = project_.findPart(ref.part);
            const PartKind& kind = *library_.catalogue().find(part->kind);
            if (kind.pins[static_cast<std::size_t>(ref.pin)].sort == PinSort::signalOut) return part;
        }
        return nullptr;
    }

    /// Inputs before users; of what samples at instants of its own, tasks first, in the order of their priority.
    void orderSignalBlocks() {
        std::vector<SignalConnection> ordered;
        std::vector<char> known(static_cast<std::size_t>(network_.signalCount), 1);  // some are set by elements
        for (const SignalConnection& c : network_.signalBlocks)
            for (const int s : c.outputs)
                if (s >= 0) known[static_cast<std::size_t>(s)] = 0;
        auto& waiting = network_.signalBlocks;
        const auto isTask = [](const SignalConnection& c) { return dynamic_cast<const TaskBlock*>(c.block.get()); };
        while (!waiting.empty()) {
            auto ready = std::find_if(waiting.begin(), waiting.end(), [&](const SignalConnection& c) {
                return !isTask(c) && std::all_of(c.inputs.begin(), c.inputs.end(), [&](const SignalInput& in) {
                    return in.signal < 0 || known[static_cast<std::size_t>(in.signal)];
                });
            });
            if (ready == waiting.end()) ready = std::find_if(waiting.begin(), waiting.end(), isTask);
            if (ready == waiting.end())
                ready = std::find_if(waiting.begin(), waiting.end(),
                                     [](const SignalConnection& c) { return !c.block->follows(); });
            if (ready == waiting.end()) ready = waiting.begin();
            for (const int s : ready->outputs)
                if (s >= 0) known[static_cast<std::size_t>(s)] = 1;
            ordered.push_back(std::move(*ready));
            waiting.erase(ready);
        }
        waiting = std::move(ordered);
    }

    const Project& project_;
    const PartLibrary& library_;
    const ParameterTable& parameters_;
    const Ramps& ramps_;
    Elaboration& result_;
    Network& network_;
    std::map<std::string, int> stateNumbers_;  ///< of a part and a kind
    /// What is known of a task while its parts come.
    struct PlannedTask {
        std::vector<TaskStep> steps;
        std::vector<int> outputs;                 ///< signals, of all steps one after the other
        std::map<int, int> placeOfNet;            ///< of the nets among the outputs
        std::vector<std::vector<int>> inputNets;  ///< of each step
    };
    struct Measurement {
        const Part* part;
        int column;
        std::string quantity;
        double factor, offset;
    };
    struct BeforeOnSheet {
        bool operator()(const Part* a, const Part* b) const { return a->id < b->id; }
    };

    std::vector<int> signalOfNet_;  ///< of held signals
    std::vector<int> columnOfNet_;  ///< of running signals, and of held ones that running parts read
    std::map<const Part*, PlannedTask, BeforeOnSheet> tasks_;
    std::vector<Measurement> measurements_;
    mutable std::vector<Error> errors_;
    std::map<std::string, int, std::less<>> behindLayout_;  ///< nodes of the part at hand, by pins
    const Part* part_ = nullptr;
    const PartKind* kind_ = nullptr;
};

/// What stands in the way, or a network in `result`.
std::vector<Error> build(const FlatProject& flat, const PartLibrary& library, const Ramps& ramps, Elaboration& result) {
    if (!flat.errors.empty()) return flat.errors;
    const ParameterTable parameters(flat.project.parameters);
    std::vector<Error> errors = checkSheet(flat.project, library, flat.nets, parameters);
    if (!errors.empty()) return errors;
    result.nets = flat.nets;
    Builder builder(flat.project, library, parameters, ramps, result);
    builder.all();
    return builder.errors();
}

}  // namespace

std::vector<Error> checkFlat(const FlatProject& flat, const PartLibrary& library) {
    Elaboration scratch;
    return build(flat, library, {}, scratch);
}

std::vector<Error> checkProject(const Project& project, const PartLibrary& library) {
    return checkFlat(flattened(project, library.catalogue()), library);
}

namespace {

/// @param tone  "" for none
Result<Elaboration> elaborated(const std::string& tone, const Project& project, const PartLibrary& library,
                               const Changes& changes) {
    Project set = project;
    setParameters(set, changes.sets);
    FlatProject flat = flattened(set, library.catalogue());
    setValues(flat.project, changes.sets);
    if (auto sound = applyRungRule(changes.rungs, flat.project, library.catalogue()); !sound) return sound.error();
    Ramps ramps;
    std::vector<Error> errors;
    if (!(changes.ramped.empty() && changes.stepped.empty()) && flat.errors.empty()) {
        if (changes.ends.empty()) {
            ramps = rampsBetween(flat.project, flat.project, changes, library, errors);
        } else {
            setParameters(set, changes.ends);
            Project end = flattened(set, library.catalogue()).project;
            setValues(end, changes.sets);
            setValues(end, changes.ends);
            ramps = rampsBetween(flat.project, end, changes, library, errors);
        }
    }
    if (errors.empty() && !tone.empty() && flat.errors.empty()) {
        const auto injection = injectionOf(tone, flat, library.catalogue());
        if (!injection) return injection.error();
        if (auto done = inject(flat, *injection, library.catalogue()); !done) return done.error();
    }
    Elaboration result;
    if (errors.empty()) errors = build(flat, library, ramps, result);
    if (!errors.empty()) return errors.front();
    return result;
}

}  // namespace

Result<Elaboration> elaborate(const Project& project, const PartLibrary& library, const Changes& changes) {
    return elaborated("", project, library, changes);
}

Result<Elaboration> elaborateWith(const std::string& injection, const Project& project, const PartLibrary& library,
                                  const Changes& changes) {
    return elaborated(injection, project, library, changes);
}

}  // namespace hedgerow

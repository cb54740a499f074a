#include "network/elaborate.h"

#include <algorithm>
#include <set>

#include "network/checks.h"

namespace hedgerow {

namespace {

/// Writes one part after the other into a network.
class Builder final : public NetworkBuilder {
public:
    Builder(const Project& project, const PartLibrary& library, const ParameterTable& parameters, Elaboration& result)
        : project_(project), library_(library), parameters_(parameters), result_(result), network_(result.network) {}

    void all() {
        numberNets();
        for (const Part& part : project_.sheet().parts) {
            part_ = &part;
            kind_ = library_.catalogue().find(part.kind);
            library_.find(part.kind)->elaborate(*this);
            network_.dynamic = network_.dynamic || rung() >= 3;
        }
        orderSignalBlocks();
    }

    int node(std::string_view pin) const override { return result_.nodeOfNet[static_cast<std::size_t>(netAt(pin))]; }
    int signal(std::string_view pin) const override { return signalOfNet_[static_cast<std::size_t>(netAt(pin))]; }
    double value(std::string_view key) const override {
        auto value = partValue(*part_, *kind_, key, parameters_.lookup());
        return value ? *value : 0.0;  // the checks ran before: it has one
    }
    std::string choice(std::string_view key) const override {
        auto word = partChoice(*part_, *kind_, key);
        return word ? *word : "";
    }
    std::string text(std::string_view key) const override { return textValue(*part_, *kind_, key); }
    const std::string& folder() const override { return project_.folder.path; }
    bool typed(std::string_view key) const override { return part_->values.find(key) != nullptr; }
    int nodeCount() const override { return network_.nodeCount(); }
    int rung() const override { return kind_->rungAtOrBelow(part_->rung).rung; }
    const std::string& partName() const override { return part_->name; }

    int addBranch() override {
        network_.branchParts.push_back(part_->name);
        network_.branchIsNode.push_back(0);
        return network_.branchCount++;
    }
    int addNode() override {
        const int unknown = nodeCount() + addBranch();
        network_.branchIsNode.back() = 1;
        return unknown;
    }
    int addState(StateSort sort, std::string_view initialKey, double storage) override {
        if (initialKey.empty()) return addComposedState(sort, 0.0, storage, false);
        return addComposedState(sort, value(initialKey), storage, typed(initialKey));
    }
    int addComposedState(StateSort sort, double initial, double storage, bool given) override {
        network_.states.push_back({sort, part_->name, initial, storage, given});
        return static_cast<int>(network_.states.size()) - 1;
    }
    int addSource(std::unique_ptr<SourceGenerator> generator) override {
        const int first = network_.sourceCount;
        network_.sourceOffsets.push_back(first);
        network_.sourceCount += generator->size();
        network_.sources.push_back(std::move(generator));
        return first;
    }
    int addElement(std::unique_ptr<Element> element) override {
        network_.elements.push_back(std::move(element));
        return static_cast<int>(network_.elements.size()) - 1;
    }
    void addSignalBlock(std::unique_ptr<SignalBlock> block, std::vector<int> inputs,
                        std::vector<int> outputs) override {
        network_.signalBlocks.push_back({std::move(block), part_->name, std::move(inputs), std::move(outputs)});
    }
    void offerVoltage(int from, int to) override {
        offer({part_->name + ".v", "V", QuantityInfo::Sort::linear, voltageBetween(from, to)});
    }
    void offerBranch(int branch, int from, int to, std::string_view suffix) override {
        const Terms voltage = voltageBetween(from, to);
        const Terms current = {{network_.nodeCount() + branch, 1.0}};
        const std::string end(suffix);
        offer({part_->name + ".v" + end, "V", QuantityInfo::Sort::linear, voltage});
        offer({part_->name + ".i" + end, "A", QuantityInfo::Sort::linear, current});
        offer({part_->name + ".p" + end, "W", QuantityInfo::Sort::product, voltage, current});
    }
    void offerTerminals(int from, int to, Terms current) override {
        const Terms voltage = voltageBetween(from, to);
        offer({part_->name + ".v", "V", QuantityInfo::Sort::linear, voltage});
        offer({part_->name + ".i", "A", QuantityInfo::Sort::linear, current});
        offer({part_->name + ".p", "W", QuantityInfo::Sort::product, voltage, current});
    }
    void offerForm(std::string_view name, std::string_view unit, Terms terms) override {
        offer({part_->name + "." + std::string(name), std::string(unit), QuantityInfo::Sort::linear, std::move(terms)});
    }
    void offerSignal(std::string_view name, std::string_view unit, int signal) override {
        if (signal < 0) return;
        offer({part_->name + "." + std::string(name), std::string(unit), QuantityInfo::Sort::signal, {}, {}, signal});
    }
    void offerConducting(int element) override {
        offer({part_->name + ".on", "", QuantityInfo::Sort::conducting, {}, {}, element});
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

    int netAt(std::string_view pin) const { return result_.nets.netOfPin.at({part_->id, kind_->findPin(pin)}); }

    void numberNets() {
        const NetList& nets = result_.nets;
        result_.nodeOfNet.assign(nets.nets.size(), -1);
        signalOfNet_.assign(nets.nets.size(), -1);
        std::set<int> references;
        for (const Part& part : project_.sheet().parts) {
            const PartKind& kind = *library_.catalogue().find(part.kind);
            if (std::count_if(kind.pins.begin(), kind.pins.end(),
                              [](const PinKind& p) { return p.sort == PinSort::power; }) == 1)
                references.insert(nets.netOfPin.at({part.id, 0}));
        }
        for (std::size_t i = 0; i < nets.nets.size(); ++i) {
            const Net& net = nets.nets[i];
            if (net.pins.empty() || references.contains(static_cast<int>(i))) continue;
            if (isPowerNet(net, project_.sheet(), library_.catalogue())) {
                result_.nodeOfNet[i] = network_.nodeCount();
                network_.nodes.push_back(net.name);
                offer({net.name + ".v", "V", QuantityInfo::Sort::linear, {{result_.nodeOfNet[i], 1.0}}});
            } else if (driven(net)) {
                signalOfNet_[i] = network_.signalCount++;
            }
        }
    }

    bool driven(const Net& net) const {
        return std::any_of(net.pins.begin(), net.pins.end(), [&](const PinRef& ref) {
            const PartKind& kind = *library_.catalogue().find(project_.findPart(ref.part)->kind);
            return kind.pins[static_cast<std::size_t>(ref.pin)].sort == PinSort::signalOut;
        });
    }

    /// Inputs before users. What remains in a circle keeps its place; the blocks of this version cannot form one.
    void orderSignalBlocks() {
        std::vector<SignalConnection> ordered;
        std::vector<char> known(static_cast<std::size_t>(network_.signalCount), 0);
        auto& waiting = network_.signalBlocks;
        while (!waiting.empty()) {
            auto ready = std::find_if(waiting.begin(), waiting.end(), [&](const SignalConnection& c) {
                return std::all_of(c.inputs.begin(), c.inputs.end(),
                                   [&](int s) { return s < 0 || known[static_cast<std::size_t>(s)]; });
            });
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
    Elaboration& result_;
    Network& network_;
    std::vector<int> signalOfNet_;
    const Part* part_ = nullptr;
    const PartKind* kind_ = nullptr;
};

}  // namespace

std::vector<Error> checkFlat(const FlatProject& flat, const PartLibrary& library) {
    if (!flat.errors.empty()) return flat.errors;
    return checkSheet(flat.project, library, flat.nets, ParameterTable(flat.project.parameters));
}

std::vector<Error> checkProject(const Project& project, const PartLibrary& library) {
    return checkFlat(flattened(project, library.catalogue()), library);
}

Result<Elaboration> elaborate(const Project& project, const PartLibrary& library) {
    FlatProject flat = flattened(project, library.catalogue());
    const std::vector<Error> errors = checkFlat(flat, library);
    if (!errors.empty()) return errors.front();
    Elaboration result;
    result.nets = std::move(flat.nets);
    Builder(flat.project, library, ParameterTable(flat.project.parameters), result).all();
    return result;
}

}  // namespace hedgerow

#pragma once
// The meeting place of parts and networks: a part type knows its kind and how to elaborate itself.

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/part_kind.h"
#include "network/network.h"

namespace hedgerow {

/// What a part may do to the network while it is elaborated. Names of parts and nets are filled in by the elaboration.
class NetworkBuilder {
public:
    virtual ~NetworkBuilder() = default;
    /// The node of a power pin; -1 is the reference.
    virtual int node(std::string_view pin) const = 0;
    /// The signal at a signal pin; -1 when an optional input is not connected.
    virtual int signal(std::string_view pin) const = 0;
    /// A checked value in SI, and a chosen word.
    virtual double value(std::string_view key) const = 0;
    virtual std::string choice(std::string_view key) const = 0;
    virtual std::string text(std::string_view key) const = 0;
    /// Where relative file names start; "" for the working directory.
    virtual const std::string& folder() const = 0;
    /// Whether the user typed a value, so that it is not the default.
    virtual bool typed(std::string_view key) const = 0;
    /// Number of nodes without the reference: branch currents come after them among the unknowns.
    virtual int nodeCount() const = 0;
    /// The rung in force.
    virtual int rung() const = 0;
    virtual const std::string& partName() const = 0;

    virtual int addBranch() = 0;
    /// A node inside the part; it is used like those of pins.
    virtual int addNode() = 0;
    /// @param initialKey  parameter that holds the initial value, "" for zero
    virtual int addState(StateSort sort, std::string_view initialKey, double storage) = 0;
    /// A state whose initial value follows from several parameters.
    virtual int addComposedState(StateSort sort, double initial, double storage, bool given) = 0;
    /// Returns the index of the first source state of the generator.
    virtual int addSource(std::unique_ptr<SourceGenerator> generator) = 0;
    /// Returns the index of the element.
    virtual int addElement(std::unique_ptr<Element> element) = 0;
    virtual void addSignalBlock(std::unique_ptr<SignalBlock> block, std::vector<int> inputs,
                                std::vector<int> outputs) = 0;

    /// "v", "i" and "p" of a branch from one node to another, v counted from the first to the second.
    /// @param suffix  put behind each name, for parts with several branches
    virtual void offerBranch(int branch, int from, int to, std::string_view suffix = "") = 0;
    /// "v", "i" and "p" between two nodes whose current is the sum of several.
    virtual void offerTerminals(int from, int to, Terms current) = 0;
    /// A quantity of the part's own that is linear in the unknowns.
    virtual void offerForm(std::string_view name, std::string_view unit, Terms terms) = 0;
    /// "v" alone.
    virtual void offerVoltage(int from, int to) = 0;
    virtual void offerSignal(std::string_view name, std::string_view unit, int signal) = 0;
    virtual void offerConducting(int element) = 0;
    /// Compares the largest magnitude of one of the part's own quantities with a rating, when that is given.
    virtual void rate(std::string_view ratingKey, std::string_view quantity) = 0;
};

/// How a two-terminal part looks to the checks of a circuit.
enum class StiffSort { neither, voltage, current };

class PartType {
public:
    virtual ~PartType() = default;
    virtual PartKind kind() const = 0;
    /// Writes the part into the network; values were checked before.
    virtual void elaborate(NetworkBuilder& builder) const = 0;
    /// Whether the part, at this rung and in these values, fixes the voltage or the current between its power pins.
    virtual StiffSort stiff(int /*rung*/, const std::function<double(std::string_view)>& /*value*/) const {
        return StiffSort::neither;
    }
    /// True when the part lets a direct current pass between its power pins at times, so that its nets count as joined.
    virtual bool joinsNets() const { return true; }
    /// Checks that involve several values together; an error names the part and the field.
    virtual Status check(const std::function<double(std::string_view)>& /*value*/) const { return {}; }
    /// Checks of texts. @param folder  where relative file names start
    virtual Status checkTexts(const std::function<std::string(std::string_view)>& /*text*/,
                              const std::string& /*folder*/) const {
        return {};
    }
};

/// All part types of this build with their kinds.
class PartLibrary {
public:
    void add(std::unique_ptr<PartType> type);
    const Catalogue& catalogue() const { return catalogue_; }
    const PartType* find(std::string_view kind) const;

private:
    Catalogue catalogue_;
    std::map<std::string, std::unique_ptr<PartType>, std::less<>> types_;
};

}  // namespace hedgerow

#pragma once
// The meeting place of parts and networks: a part type knows its kind and how to elaborate itself.

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/project_folder.h"
#include "base/result.h"
#include "model/part_kind.h"
#include "network/element.h"
#include "network/signal_block.h"
#include "network/sorts.h"
#include "network/source.h"
#include "network/sampled_step.h"

namespace hedgerow {

/// What a part may do to the network while it is elaborated. Names of parts and nets are filled in by the elaboration.
class NetworkBuilder {
public:
    virtual ~NetworkBuilder() = default;
    /// The node of a power pin; -1 is the reference.
    virtual int node(std::string_view pin) const = 0;
    /// The held signal at a signal pin; -1 when an optional input is not connected, or when the signal there runs.
    virtual int signal(std::string_view pin) const = 0;
    /// Where a block reads the signal at a pin, held or running.
    virtual SignalInput input(std::string_view pin) const = 0;
    /// The column of z that holds the signal at a pin, of its own (whose row has the same number) or of another part's;
    /// a held signal gets one. -1 when the pin is not connected.
    virtual int column(std::string_view pin) = 0;
    /// A checked value in SI, and a chosen word.
    virtual double value(std::string_view key) const = 0;
    virtual std::string choice(std::string_view key) const = 0;
    virtual std::string text(std::string_view key) const = 0;
    /// The numbers of a text, separated by commas; each may be an expression. Refuses the field where one is none.
    virtual std::vector<double> numbers(std::string_view key) const = 0;
    /// One such expression. Refuses the field it stands in where it is none.
    virtual double number(std::string_view key, std::string_view text) const = 0;
    /// Says what is wrong with a field that only the whole circuit can tell; the run does not start.
    virtual void refuse(std::string_view key, std::string message) const = 0;
    /// Where relative file names start; "" for the working directory.
    virtual const ProjectFolder& folder() const = 0;
    /// The source state that a value is, when the scene of the run ramps it at any time; -1 when it stays constant, or
    /// steps. Only values whose kind says that they ramp.
    virtual int rampOf(std::string_view key) = 0;
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
    /// A running signal inside the part. Returns its column, which is also the number of its row.
    virtual int addColumn() = 0;
    /// @param initialKey  parameter that holds the initial value, "" for zero
    virtual int addState(StateSort sort, std::string_view initialKey, double storage) = 0;
    /// A temperature rise, 0 at the start. @param storage  thermal capacitance, J/K
    virtual int addHeatState(double storage) = 0;
    /// A state whose initial value follows from several parameters.
    virtual int addComposedState(StateSort sort, double initial, double storage, bool given) = 0;
    /// Returns the index of the first source state of the generator.
    virtual int addSource(std::unique_ptr<SourceGenerator> generator) = 0;
    /// A held signal inside the part.
    virtual int addSignal() = 0;
    /// Ties a column to factor times a quantity of the circuit plus an offset. The quantity is looked for when all
    /// parts have said what they offer; the field "of" is refused where it is not found or is no signal.
    virtual void measure(int column, const std::string& quantity, double factor, double offset) = 0;
    /// Returns the index of the element.
    virtual int addElement(std::unique_ptr<Element> element) = 0;
    virtual void addSignalBlock(std::unique_ptr<SignalBlock> block, std::vector<SignalInput> inputs,
                                std::vector<int> outputs) = 0;
    /// Whether the part has a task, so that it is sampled.
    virtual bool sampled() const = 0;
    /// Adds what the part does at each sample of its task. Inputs and outputs are pins.
    /// @param watched  names of further outputs, which no pin shows: they can be watched as quantities of the part
    virtual void addStep(StepMaker maker, const std::vector<std::string>& inputs,
                         const std::vector<std::string>& outputs, const std::vector<std::string>& watched = {}) = 0;

    /// "v", "i" and "p" of a branch from one node to another, v counted from the first to the second.
    /// @param suffix  put behind each name, for parts with several branches
    virtual void offerBranch(int branch, int from, int to, std::string_view suffix = "") = 0;
    /// "v", "i" and "p" between two nodes whose current is the sum of several.
    virtual void offerTerminals(int from, int to, Terms current, std::string_view suffix = "") = 0;
    /// A quantity of the part's own that is linear in the unknowns.
    /// @param byValues  whether factors of it are values of the part: a run in which those change does not have it
    virtual void offerForm(std::string_view name, std::string_view unit, Terms terms, bool byValues = false) = 0;
    /// "v" alone.
    virtual void offerVoltage(int from, int to) = 0;
    /// The signal at an output pin, held or running, under the name of the pin.
    virtual void offerSignal(std::string_view pin, std::string_view unit = "") = 0;
    virtual void offerConducting(int element, std::string_view suffix = "") = 0;
    /// Compares the largest magnitude of one of the part's own quantities with a rating, when that is given.
    virtual void rate(std::string_view ratingKey, std::string_view quantity) = 0;
};

/// What decides whether the outputs of a part run: change at any time, as currents do, and not in steps.
class SignalSurroundings {
public:
    virtual ~SignalSurroundings() = default;
    /// Whether the signal at one of the part's input pins runs.
    virtual bool runs(std::string_view inputPin) const = 0;
    /// Whether the part belongs to a task.
    virtual bool sampled() const = 0;
    virtual std::string choice(std::string_view key) const = 0;
    /// Whether the scene ramps a value of the part.
    virtual bool ramps(std::string_view key) const = 0;
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
    /// Whether the signal outputs run. Called until nothing changes: what runs must go on running when more inputs do.
    virtual bool outputsRun(const SignalSurroundings& /*around*/) const { return false; }
    /// What pins are called in a part whose values name them, one per pin of the kind; empty where they keep their
    /// names.
    /// @param folder  where relative file names start
    virtual std::vector<std::string> pinNames(const std::function<std::string(std::string_view)>& /*text*/,
                                              const ProjectFolder& /*folder*/) const {
        return {};
    }
    /// Checks that involve several values together; an error names the part and the field.
    virtual Status check(const std::function<double(std::string_view)>& /*value*/) const { return {}; }
    /// Checks of texts. @param folder  where relative file names start
    virtual Status checkTexts(const std::function<std::string(std::string_view)>& /*text*/,
                              const ProjectFolder& /*folder*/) const {
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

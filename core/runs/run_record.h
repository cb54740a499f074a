#pragma once
// What is known of a run, whether it is on its way, over, or read back from the ledger.

#include <memory>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "model/project.h"
#include "network/engine.h"
#include "traces/trace.h"

namespace hedgerow {

class RunRecord {
public:
    virtual ~RunRecord() = default;
    /// As it was when the run was made.
    virtual const Project& project() const = 0;
    virtual const std::string& plan() const = 0;
    virtual const std::string& scene() const = 0;
    virtual Tick end() const = 0;      ///< simulated time asked for
    virtual Tick reached() const = 0;  ///< simulated time stored so far
    virtual const RunSummary& summary() const = 0;
    virtual const std::vector<QuantityInfo>& quantities() const = 0;
    virtual const std::vector<RatingInfo>& ratings() const = 0;
    virtual std::size_t points() const = 0;
    virtual std::size_t bytes() const = 0;  ///< in memory
    /// A reader of one quantity with at most so many points at first, or nullptr when there is none of this name.
    virtual std::unique_ptr<Trace> trace(std::string_view quantity, std::size_t most = SIZE_MAX) const = 0;
    virtual std::vector<std::pair<std::string, std::string>> provenance() const = 0;

    const QuantityInfo* findQuantity(std::string_view name) const {
        for (const QuantityInfo& quantity : quantities())
            if (quantity.name == name) return &quantity;
        return nullptr;
    }
    std::vector<std::string> quantityNames() const {
        std::vector<std::string> names;
        for (const QuantityInfo& quantity : quantities()) names.push_back(quantity.name);
        return names;
    }
};

}  // namespace hedgerow

#pragma once
// Circuits for tests, written by net names instead of drawn, and runs of them.

#include <initializer_list>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "model/project.h"
#include "runs/run.h"

namespace hedgerow::test {

/// Builds a project whose nets are all made by labels. Net "0" is the reference.
class Circuit {
public:
    Circuit();
    using Values = std::initializer_list<std::pair<std::string, std::string>>;
    /// Adds a part; `nets` are those of its pins in order, "" leaves a pin open.
    Circuit& add(const std::string& kind, const std::string& name, const std::vector<std::string>& nets,
                 Values values = {}, int rung = 1);
    /// Changes a value of a part that is there.
    Circuit& set(const std::string& part, const std::string& key, const std::string& text);
    Circuit& plan(const std::string& end, const std::string& tolerance = "1e-4");
    const Project& project() const { return project_; }
    Project& project() { return project_; }

private:
    Project project_;
    int column_ = 0;
};

/// Runs to the end; a failure to start fails the test and returns nullptr.
std::shared_ptr<Run> run(const Circuit& circuit);
std::shared_ptr<Run> run(const Project& project);

/// The value of a quantity at an instant (after a jump there). A missing one fails the test.
double at(const Run& run, const std::string& quantity, double seconds);
Measures measures(const Run& run, const std::string& quantity, double from, double to);
/// Every instant at which a 0/1 quantity changes.
std::vector<double> edges(const Run& run, const std::string& quantity);

}  // namespace hedgerow::test

/// |actual - expected| <= relative * |expected|
#define EXPECT_RELATIVE(actual, expected, relative) \
    EXPECT_NEAR((actual), (expected), std::abs(expected) * (relative)) << #actual " against " #expected

#pragma once
// What varies in a study, as lines of text, and the points that follow from them.
//
//     Rload: 1, 2.2, 4.7                      a list: of a project parameter,
//     C2.c: 10u to 100u in 10                 or of a value of a part; equally spaced
//     C2.c: 10u to 1m, 3 a decade             spaced by ratio
//     L1.l: E12 from 10u to 100u              preferred values (IEC 60063): E3 to E96
//     L1.l: 22u +- 20 %                       anywhere between two limits, all alike
//     L1.l: normal 22u, deviation 2 %, within 5 %    about a value, cut where "within" says
//     Vin: measured supply.csv                as often as a file has its values
//     rungs: all on 1; all on 2, Q1 on 3      rules (model/rung_rule.h)
//     plan: look; start-up                    scene: steady; load step
//     D1: fast one; slow one                  kept parts of its kind by their names, or "all kept"
//     X1: bridge; bridge with snubber         modules of the project in its place: of converters, of controllers
//     tolerances                              every value with a tolerance on its card, all alike within it
//     tolerances of L1, C2, normal            some of them, with a third of it as deviation, cut at it
//     correlation of L1.l and L2.l: 0.8       of random points
//     table values.csv                        a column for each thing that varies, a row for each run

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "model/project.h"

namespace hedgerow {

/// One thing that varies.
struct Varied {
    enum class Sort { list, range, uniform, normal, measured };
    std::string target;  ///< "Rload", "C2.c", "X1.S1.ron", "D1", "rungs", "plan", "scene"
    Sort sort = Sort::list;
    std::vector<std::string> texts = {};  ///< the values of a list, as typed; of a range or of preferred values as numbers
    double low = 0, high = 0;             ///< SI, of a range, of limits, and where a normal distribution is cut
    bool byRatio = false;                 ///< a range is spaced by ratio
    double mean = 0, deviation = 0;       ///< SI, of a normal distribution
    std::vector<double> samples = {};     ///< in order, of a measured distribution
    std::string unit = {};                ///< of its values, where they have one
    /// The value that a part u of all runs lies below, 0 <= u < 1, as text.
    std::string at(double u) const;
    /// Whether its values are numbers.
    bool numeric() const;
    /// Where a value lies between its ends, 0 to 1: of a list the place of the nearest one.
    double placeOf(double value) const;
};

struct VariedSet {
    std::vector<Varied> all = {};
    bool table = false;  ///< its lists belong together, row by row
    struct Correlation {
        std::size_t a = 0, b = 0;
        double value = 0;
    };
    std::vector<Correlation> correlations = {};
};

/// Reads all lines. Errors say which line and what of it; files are read by the project's own permission.
Result<VariedSet> readVaried(const std::vector<std::string>& lines, const Project& project);

/// How the runs are chosen.
struct Sampling {
    enum class Sort { grid, rows, corners, random, latin, sobol, search };
    Sort sort = Sort::grid;
    std::size_t count = 0;  ///< of random, latin and sobol; at most, of a search
    struct Search {
        std::string objective = {};  ///< an expression over named measures and parameters
        bool most = false;           ///< it is to be made large
        enum class Way { local, global, gradient } way = Way::local;
    };
    Search search = {};
};
/// Reads "grid", "rows", "corners", "random 200", "latin 200", "sobol 256", "minimise losses + fsw / 1M", "maximise margin, 300 runs,
/// globally", "minimise ripple, by gradient".
Result<Sampling> readSampling(std::string_view text);
/// The other way around.
std::string samplingText(const Sampling& sampling);

constexpr std::size_t mostStudyRuns = 10'000'000;

/// A value for each thing that varies.
using StudyPoint = std::vector<std::string>;

/// Points by their number, without keeping all of them: the same ones each time.
class StudyPoints {
public:
    /// Errors: lists of different lengths in rows; distributions in a grid; too many points; correlations that no distribution has.
    static Result<StudyPoints> make(VariedSet set, const Sampling& sampling, std::uint64_t seed);
    std::size_t size() const { return size_; }
    StudyPoint at(std::size_t index) const;
    const std::vector<Varied>& varied() const { return set_.all; }
    const Sampling& sampling() const { return sampling_; }

private:
    double part(std::size_t axis, std::size_t index) const;

    VariedSet set_;
    Sampling sampling_;
    std::uint64_t seed_ = 1;
    std::size_t size_ = 0;
    std::vector<double> factor_ = {};                      ///< of the correlations, lower triangle by rows
    std::vector<std::vector<std::uint32_t>> strata_ = {};  ///< of a Latin hypercube, per thing that varies
};

/// The project with the values of a point. Errors: a target that is not there, a value that it does not take.
Result<Project> withPoint(const Project& project, const ParameterStudy& study, const std::vector<Varied>& varied,
                          const StudyPoint& point);

/// The value of a parameter, or of a value of a part, as the project stands; nothing where there is none, or it is no number.
std::optional<double> presentValue(const Project& project, const std::string& target);

/// The value of the standard normal distribution that a part u of all lies below, 0 < u < 1.
double normalQuantile(double u);

}  // namespace hedgerow

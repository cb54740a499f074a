#pragma once
// What the rows of a study say together: spread, yield, sensitivities, and what never mattered.

#include <optional>
#include <string>
#include <vector>

#include "studies/study_file.h"

namespace hedgerow {

/// Of one measure, over all rows that did not fail.
struct MeasureStatistics {
    std::size_t rows = 0, failed = 0;
    double mean = 0, deviation = 0;  ///< of the sample
    double least = 0, greatest = 0;
    std::size_t leastRow = 0, greatestRow = 0;  ///< rows of the table
    double q01 = 0, q10 = 0, median = 0, q90 = 0, q99 = 0;  ///< quantiles, linear between the rows
    double yield = 1;               ///< part of all rows that keeps the limits, failed ones counted as not keeping them
    double yieldLow = 0, yieldHigh = 1;  ///< 95 % interval (E. B. Wilson, J. Am. Stat. Assoc. 22, 1927)
};
MeasureStatistics statisticsOf(const StudyTable& table, std::size_t measure);

/// How a measure moves with one thing that varies, by a straight line through all rows and all things that vary at once
/// (least squares). Words (plans, rungs) have no line: their part is that of the means of their groups.
struct Sensitivity {
    std::size_t axis = 0;
    bool line = false;
    double slope = 0;    ///< SI over SI
    double swing = 0;    ///< of the measure, while the thing goes from its least to its greatest value
    double share = 0;    ///< of the variance of the measure
    bool moved = false;  ///< whether the measure ever changed with it
};
/// The greatest swing first.
std::vector<Sensitivity> sensitivitiesOf(const StudyTable& table, std::size_t measure);

/// Things that vary without any measure taking note: their names. Rows that differ in nothing else are compared where there
/// are some, else the shares of the variance tell.
std::vector<std::string> withoutEffect(const StudyTable& table);

/// In sentences: how many runs, each measure with its spread, yield and worst row, what moves it, what moves nothing.
std::vector<std::string> studySummary(const StudyTable& table);

}  // namespace hedgerow

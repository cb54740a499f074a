#pragma once
// Points typed into a field or read from a CSV file.

#include <string>
#include <string_view>
#include <vector>

#include "base/project_folder.h"
#include "base/result.h"

namespace hedgerow {

struct TablePoint {
    double t, value;  ///< t: time or, of a curve, what it is over
};

/// Pairs as in '0 0, 1m 5', or the lines of the CSV file that the text names. They rise in the first number.
/// @param before, unit  units of the two numbers
/// @param folder        where a relative file name starts
/// @param column        which of the values behind the first number, from 1 on, where there are several
Result<std::vector<TablePoint>> pointsOf(const std::string& text, std::string_view before, std::string_view unit,
                                         const ProjectFolder& folder, int column = 1);

}  // namespace hedgerow

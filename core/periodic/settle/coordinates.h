#pragma once
// A snapshot as a vector: what a circuit and its control remember in numbers, and what they remember besides.

#include <string>
#include <vector>

#include <Eigen/Dense>

#include "periodic/settle/coordinate.h"
#include "network/snapshot.h"

namespace hedgerow::settle {

/// All of a snapshot of this network: states first, then what blocks show and remember. Outputs that are 0 or 1 are
/// none.
std::vector<Coordinate> coordinatesOf(const Snapshot& snapshot, const Network& network);
/// Values in SI; instants in seconds after that of the snapshot.
Eigen::VectorXd valuesOf(const Snapshot& snapshot, const std::vector<Coordinate>& coordinates);
void setValue(Snapshot& snapshot, const Coordinate& coordinate, double value);

/// What must be the same for two snapshots to be one place of a periodic run: segments, gates, flags, counts, lengths
/// of lists. @return "" where it is, else the part and what differs
std::string differenceOf(const Snapshot& a, const Snapshot& b);

}  // namespace hedgerow::settle

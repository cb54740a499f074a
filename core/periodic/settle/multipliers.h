#pragma once
// Floquet multipliers: the eigenvalues of the map of one period, in words.

#include <Eigen/Dense>

#include "periodic/settle/settle.h"

namespace hedgerow::settle {

/// @param map     derivative of the state after a period, by coordinate  @param period  s
/// @param phase   whether one multiplier is 1 because the orbit may begin anywhere: it is left out
std::vector<Multiplier> multipliersOf(const Eigen::MatrixXd& map, const std::vector<Coordinate>& coordinates,
                                      double period, bool phase);

}  // namespace hedgerow::settle

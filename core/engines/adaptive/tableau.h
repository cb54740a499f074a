#pragma once
// Runge-Kutta methods as data: diagonally implicit, the first stage explicit, the last one the end of the step.

#include <string_view>
#include <vector>

namespace hedgerow::adaptive {

/// x(t + c[i] h) = x + h sum_j a[i][j] x'_j with a[i][i] = gamma for i > 0. The last row is the solution.
struct Tableau {
    std::string_view name;
    int order = 0;     ///< of the solution
    int embedded = 0;  ///< the lower of the orders of solution and comparison
    double gamma = 0;
    double strict = 1;                   ///< errors count that many times
    std::vector<std::vector<double>> a;  ///< lower triangle with its diagonal
    std::vector<double> c;
    std::vector<double> error;  ///< weights of the solution less those of the comparison
    std::vector<int> dense;     ///< stages through which a polynomial follows the unknowns, in order of time
    int stages() const { return static_cast<int>(a.size()); }
};

/// TR-BDF2: R. E. Bank et al., IEEE Trans. CAD 4 (1985), 436; as a Runge-Kutta method M. E. Hosea, L. F. Shampine,
/// Appl. Numer. Math. 20 (1996), 21.
const Tableau& trBdf2();
/// ARK3(2)4L[2]SA and ARK4(3)6L[2]SA, the implicit parts: C. A. Kennedy, M. H. Carpenter, Appl. Numer. Math. 44 (2003),
/// 139.
const Tableau& esdirk3();
const Tableau& esdirk4();
std::vector<const Tableau*> allTableaus();
/// For the first moments after an event: what decays faster than the step is gone after it, without ringing. Compared
/// with the trapezoidal rule.
const Tableau& backwardEuler();

}  // namespace hedgerow::adaptive

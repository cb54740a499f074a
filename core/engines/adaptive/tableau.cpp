#include "engines/adaptive/tableau.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace hedgerow::adaptive {

namespace {

Tableau made(std::string_view name, int order, std::vector<std::vector<double>> a, const std::vector<double>& compared,
             std::vector<int> dense) {
    Tableau t{name, order, std::max(order - 1, 1), a.back().back(), 1, std::move(a), {}, {}, std::move(dense)};
    for (const auto& row : t.a) t.c.push_back(std::accumulate(row.begin(), row.end(), 0.0));
    t.c.back() = 1;
    for (std::size_t i = 0; i < compared.size(); ++i) t.error.push_back(t.a.back()[i] - compared[i]);
    return t;
}

}  // namespace

const Tableau& trBdf2() {
    static const Tableau table = [] {
        const double d = 1 - std::sqrt(0.5), w = std::sqrt(0.125);
        return made("TR-BDF2", 2, {{0}, {d, d}, {w, w, d}}, {(1 - w) / 3, (3 * w + 1) / 3, d / 3}, {0, 1, 2});
    }();
    return table;
}

const Tableau& esdirk3() {
    static const Tableau table = [] {
        const double g = 1767732205903.0 / 4055673282236.0;
        return made("ARK3(2)4L[2]SA", 3,
                    {{0},
                     {g, g},
                     {2746238789719.0 / 10658868560708.0, -640167445237.0 / 6845629431997.0, g},
                     {1471266399579.0 / 7840856788654.0, -4482444167858.0 / 7529755066697.0,
                      11266239266428.0 / 11593286722821.0, g}},
                    {2756255671327.0 / 12835298489170.0, -10771552573575.0 / 22201958757719.0,
                     9247589265047.0 / 10645013368117.0, 2193209047091.0 / 5459859503100.0},
                    {0, 2, 1, 3});
    }();
    return table;
}

const Tableau& esdirk4() {
    static const Tableau table = made(
        "ARK4(3)6L[2]SA", 4,
        {{0},
         {0.25, 0.25},
         {8611.0 / 62500, -1743.0 / 31250, 0.25},
         {5012029.0 / 34652500, -654441.0 / 2922500, 174375.0 / 388108, 0.25},
         {15267082809.0 / 155376265600, -71443401.0 / 120774400, 730878875.0 / 902184768, 2285395.0 / 8070912, 0.25},
         {82889.0 / 524892, 0, 15625.0 / 83664, 69875.0 / 102672, -2260.0 / 8211, 0.25}},
        {4586570599.0 / 29645900160, 0, 178811875.0 / 945068544, 814220225.0 / 1159782912, -3700637.0 / 11593932,
         61727.0 / 225920},
        {0, 2, 3, 5});
    return table;
}

const Tableau& backwardEuler() {
    static const Tableau table = [] {
        Tableau made = hedgerow::adaptive::made("backward Euler", 1, {{0}, {0, 1}}, {0.5, 0.5}, {0, 1});
        made.strict = 1e4;
        return made;
    }();
    return table;
}

std::vector<const Tableau*> allTableaus() { return {&trBdf2(), &esdirk3(), &esdirk4()}; }

}  // namespace hedgerow::adaptive

#include "periodic/settle/common_period.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "base/text.h"
#include "model/quantity.h"

namespace hedgerow::settle {

namespace {

constexpr double together = 1e-9;       ///< relative difference of multiples that count as one
constexpr std::int64_t most = 1000000;  ///< periods of the shortest one in the common one
constexpr double chance = 0.01;         ///< at most, that any two periods would fit as well

struct Ratio {
    std::int64_t above = 0, below = 1;
};

/// The simplest fraction within `tolerance` of a ratio, by its continued fraction; nothing with a numerator or
/// denominator above `limit`. @pre value > 0
std::optional<Ratio> fractionOf(long double value, double tolerance, std::int64_t limit) {
    Ratio before{1, 0}, now{static_cast<std::int64_t>(std::floor(value)), 1};
    long double rest = value - std::floor(value);
    while (std::abs(static_cast<long double>(now.above) / now.below / value - 1) > tolerance) {
        if (!(rest > 0)) return {};
        const long double turned = 1 / rest;
        if (!(turned < static_cast<long double>(limit) + 1)) return {};
        const auto whole = static_cast<std::int64_t>(std::floor(turned));
        const Ratio next{whole * now.above + before.above, whole * now.below + before.below};
        if (next.above > limit || next.below > limit) return {};
        before = now, now = next;
        rest = turned - std::floor(turned);
    }
    if (now.above <= 0 || now.above > limit) return {};
    // Large numbers fit anything (Dirichlet): what they say must not be an accident.
    const auto below = static_cast<double>(now.below);
    if (tolerance * static_cast<double>(value) * below * below > chance) return {};
    return now;
}

struct Period {
    std::string part;
    FineTime length;
};

std::string shown(FineTime period) {
    const double seconds = static_cast<double>(static_cast<long double>(period) * 0x1p-86L);
    return fmt::format("{} ({})", formatQuantity(seconds, "s", 6), formatQuantity(1 / seconds, "Hz", 6));
}

Error noMultiple(const Period& a, const Period& b) {
    const long double ratio = static_cast<long double>(a.length) / static_cast<long double>(b.length);
    // What would fit: the simplest ratio nearby.
    std::string nearest;
    for (const double tolerance : {1e-6, 1e-5, 1e-4, 1e-3, 1e-2})
        if (const auto fits = fractionOf(ratio, tolerance, 2000)) {
            const auto seconds =
                static_cast<double>(static_cast<long double>(a.length) * 0x1p-86L *
                                    static_cast<long double>(fits->below) / static_cast<long double>(fits->above));
            nearest = fmt::format("; {} would fit with {} ({})", b.part, formatQuantity(seconds, "s", 9),
                                  formatQuantity(1 / seconds, "Hz", 9));
            break;
        }
    return {ErrorCode::range,
            fmt::format("the periods of {}, {}, and of {}, {}, have no common multiple{}", a.part, shown(a.length),
                        b.part, shown(b.length), nearest),
            b.part};
}

}  // namespace

Result<CommonPeriod> commonPeriod(const Network& network) {
    CommonPeriod common;
    std::vector<Period> periods;
    bool varies = false;
    for (const auto& [part, recurrence] : recurrencesOf(network)) {
        if (recurrence.sort == Recurrence::Sort::once) common.from = std::max(common.from, recurrence.until);
        if (recurrence.sort == Recurrence::Sort::varies) varies = true;
        if (recurrence.sort != Recurrence::Sort::periodic) continue;
        const auto known = std::find_if(periods.begin(), periods.end(), [&](const Period& one) {
            return one.part == part && one.length == recurrence.period;
        });
        if (known == periods.end()) periods.push_back({part, recurrence.period});
    }
    if (periods.empty()) return common;
    // The longest first, so that the common one is a whole number of it.
    std::stable_sort(periods.begin(), periods.end(),
                     [](const Period& a, const Period& b) { return a.length > b.length; });
    FineTime all = periods.front().length;
    for (const Period& next : periods) {
        const auto ratio =
            fractionOf(static_cast<long double>(all) / static_cast<long double>(next.length), together, most);
        if (!ratio) return noMultiple(periods.front(), next);
        all *= ratio->below;
        if (all / periods.back().length > most) return noMultiple(periods.front(), next);
    }
    if (varies) {
        // What a signal sets has to fit to it by chance: the search says whether it does.
        common.made = fmt::format("{} periods of {}", static_cast<std::int64_t>(all / periods.front().length),
                                  periods.front().part);
    } else {
        std::vector<std::string> words;
        for (const Period& one : periods) {
            const auto times = static_cast<std::int64_t>(
                std::llroundl(static_cast<long double>(all) / static_cast<long double>(one.length)));
            words.push_back(times == 1 ? fmt::format("1 period of {}", one.part)
                                       : fmt::format("{} periods of {}", times, one.part));
        }
        constexpr std::size_t mostWords = 4;
        if (words.size() > mostWords) words.resize(mostWords), words.push_back("...");
        common.made = fmt::format("{}", fmt::join(words, ", "));
    }
    common.period = all;
    return common;
}

}  // namespace hedgerow::settle

// Circuits far larger than a converter: they run, in balance, or say why not.

#include "circuits.h"
#include "engines/exact/operating_point.h"
#include "support/circuit.h"

using namespace hedgerow;
using namespace hedgerow::test;

// Two thousand storages behind a switched leg. The wave that the first edge sends goes down the ladder at
// 1 / sqrt(L C) sections per second (M. Van Valkenburg, Network Analysis, ch. 11): the far end is still at rest.
TEST(LargeCircuits, LaddersOfThousandsRun) {
    Circuit c = bench::ladder(2000);
    c.plan("300u", "1e-2");
    c.project().plans[0].engine = "exact";
    const auto r = run(c);
    ASSERT_TRUE(r);
    ASSERT_EQ(r->summary().end, RunEnd::finished) << r->summary().brief();
    const double sections = 300e-6 / std::sqrt(100e-6 * 1e-6);  // 30 of 1,000
    EXPECT_GT(std::abs(at(*r, "C0.v", 300e-6)), 1.0);
    EXPECT_GT(std::abs(at(*r, "C" + std::to_string(static_cast<int>(sections) - 5) + ".v", 300e-6)), 0.1);
    EXPECT_LT(std::abs(at(*r, "C" + std::to_string(2 * static_cast<int>(sections)) + ".v", 300e-6)), 1e-6);
    double sum = 0, largest = 0;
    for (const std::string& name : r->quantityNames()) {
        if (!name.ends_with(".p")) continue;
        const double power = at(*r, name, 300e-6);
        sum += power;
        largest = std::max(largest, std::abs(power));
    }
    EXPECT_LE(std::abs(sum), 1e-9 * largest);
}

TEST(LargeCircuits, OperatingPointsSayTheirLimit) {
    const auto prepared = Run::prepare(std::make_shared<const Project>(bench::ladder(2000).project()));
    ASSERT_TRUE(prepared) << prepared.error().message;
    const auto point = exact::operatingPoint((*prepared)->elaboration().network);
    ASSERT_FALSE(point);
    EXPECT_NE(point.error().message.find("start from given values"), std::string::npos) << point.error().message;
}

#include "model/quantity.h"

#include <cmath>
#include <numbers>

#include "model/values.h"
#include "runs/registry.h"

using namespace hedgerow;

namespace {

double field(const std::string& text, const std::string& unit) {
    const auto value = evaluateField(text, *findUnit(unit));
    EXPECT_TRUE(value) << text << ": " << (value ? "" : value.error().message);
    return value ? *value : NAN;
}

Error fieldError(const std::string& text, const std::string& unit) {
    const auto value = evaluateField(text, *findUnit(unit));
    EXPECT_FALSE(value) << text;
    return value ? Error{} : value.error();
}

}  // namespace

TEST(Quantity, ReadsEngineeringNotation) {
    EXPECT_DOUBLE_EQ(field("47u", "F"), 47e-6);
    EXPECT_DOUBLE_EQ(field("4k7", "Ω"), 4700);
    EXPECT_DOUBLE_EQ(field("4R7", "Ω"), 4.7);
    EXPECT_DOUBLE_EQ(field("2u2F", "F"), 2.2e-6);
    EXPECT_DOUBLE_EQ(field("10 mH", "H"), 10e-3);
    EXPECT_DOUBLE_EQ(field("3.3kΩ", "Ω"), 3300);
    EXPECT_DOUBLE_EQ(field("3.3 kohm", "Ω"), 3300);
    EXPECT_DOUBLE_EQ(field("100µ", "s"), 100e-6);
    EXPECT_DOUBLE_EQ(field("1e-3", "s"), 1e-3);
    EXPECT_DOUBLE_EQ(field(".5", ""), 0.5);
    EXPECT_DOUBLE_EQ(field("33 m", "H"), 33e-3);
    EXPECT_DOUBLE_EQ(field("30%", ""), 0.3);
    EXPECT_DOUBLE_EQ(field("-12", "V"), -12);
    EXPECT_DOUBLE_EQ(field("1 MHz", "Hz"), 1e6);
    EXPECT_DOUBLE_EQ(field("30", "deg"), std::numbers::pi / 6);
    EXPECT_DOUBLE_EQ(field("30deg", "deg"), std::numbers::pi / 6);
    EXPECT_DOUBLE_EQ(field("1 rad", "deg"), 1.0);
}

TEST(Quantity, EvaluatesExpressions) {
    EXPECT_DOUBLE_EQ(field("1/250k", "s"), 4e-6);
    EXPECT_DOUBLE_EQ(field("2*pi*50", ""), 100 * std::numbers::pi);
    EXPECT_DOUBLE_EQ(field("1/(250 kHz)", "s"), 4e-6);
    EXPECT_DOUBLE_EQ(field("230*sqrt(2)", "V"), 230 * std::sqrt(2.0));
    EXPECT_DOUBLE_EQ(field("24V / 2A", "Ω"), 12);
    EXPECT_DOUBLE_EQ(field("2^-3", ""), 0.125);
    EXPECT_DOUBLE_EQ(field("-2^2", ""), -4);
    EXPECT_DOUBLE_EQ(field("10 - 2 - 3", ""), 5);
    EXPECT_DOUBLE_EQ(field("min(3, 1+1) * max(2 A, 1 A)", "A"), 4);
    EXPECT_DOUBLE_EQ(field("sqrt(4 V * 1 V)", "V"), 2);
}

TEST(Quantity, RefusesWrongUnits) {
    EXPECT_EQ(fieldError("10 mH", "F").code, ErrorCode::unit);
    EXPECT_EQ(fieldError("10 mH", "F").message, "this is in H, the field takes F");
    EXPECT_EQ(fieldError("3 V", "").code, ErrorCode::unit);
    EXPECT_EQ(fieldError("1 V + 2 A", "V").position, 4);
    EXPECT_EQ(fieldError("1 V + 2", "V").message, "V and a plain number cannot be added");
}

TEST(Quantity, PointsAtTheWrongCharacter) {
    EXPECT_EQ(fieldError("47x", "F").position, 2);
    EXPECT_EQ(fieldError("(1 + 2", "").position, 0);
    EXPECT_EQ(fieldError("1 + * 2", "").position, 4);
    EXPECT_EQ(fieldError("3 µ? 2", "").position, 3);
    EXPECT_EQ(fieldError("", "").message, "a value is missing");
    EXPECT_EQ(fieldError("1/0", "").message, "division by zero");
    EXPECT_EQ(fieldError("2 * nope", "").message, "'nope' is not a number");
    EXPECT_EQ(fieldError("foo(2)", "").message, "there is no function 'foo'");
    EXPECT_EQ(fieldError(std::string(5000, '('), "").message, "the expression is nested too deeply");
    EXPECT_EQ(fieldError(std::string(5000, '-') + "1", "").message, "the expression is nested too deeply");
    EXPECT_EQ(fieldError("1e400", "").code, ErrorCode::syntax);
    EXPECT_EQ(fieldError("10^400", "").code, ErrorCode::syntax);
}

TEST(Quantity, FormatsInSteps) {
    EXPECT_EQ(formatQuantity(47e-6, "H"), "47 µH");
    EXPECT_EQ(formatQuantity(3300, "Ω"), "3.3 kΩ");
    EXPECT_EQ(formatQuantity(-0.0125, "A"), "−12.5 mA");
    EXPECT_EQ(formatQuantity(999.96, "V"), "1 kV");
    EXPECT_EQ(formatQuantity(0, "V"), "0 V");
    EXPECT_EQ(formatQuantity(24.0162, "V"), "24.02 V");
    EXPECT_EQ(formatQuantity(0.3, "%"), "30 %");
    EXPECT_EQ(formatQuantity(NAN, "V"), "– V");
    EXPECT_EQ(formatQuantity(1e-30, "A"), "0 A");
    EXPECT_EQ(formatQuantity(0.305, ""), "0.305");
    EXPECT_EQ(formatQuantity(0.0123, ""), "0.0123");
    EXPECT_EQ(formatQuantity(1500, ""), "1500");
    EXPECT_EQ(formatQuantity(1e-4, ""), "100 µ");
    EXPECT_EQ(formatPrefixed(0.412), "412 m");
    EXPECT_EQ(formatPrefixed(33.25), "33.25");
}

// What is shown can be typed again.
TEST(Quantity, FormattedValuesReadBack) {
    for (double exponent = -14; exponent < 14; exponent += 0.37) {
        const double value = std::pow(10.0, exponent);
        std::string text = formatQuantity(value, "V", 9);
        EXPECT_NEAR(field(text, "V"), value, 1e-8 * value) << text;
    }
}

TEST(Parameters, UseEachOtherAndTheirUnits) {
    const ParameterTable table({{"fsw", "150k", "Hz", "", ""}, {"T", "1/fsw", "s", "", ""}, {"D", "0.3", "", "", ""}});
    EXPECT_DOUBLE_EQ(table.value("T")->value, 1 / 150e3);
    EXPECT_DOUBLE_EQ(*evaluateField("D*T", *findUnit("s"), table.lookup()), 0.3 / 150e3);
    EXPECT_EQ(evaluateField("fsw", *findUnit("s"), table.lookup()).error().code, ErrorCode::unit);
    EXPECT_TRUE(table.errors().empty());
}

TEST(Parameters, ReportCyclesWithTheirMembers) {
    const ParameterTable table({{"a", "b+1", "", "", ""},
                                {"b", "2*c", "", "", ""},
                                {"c", "a", "", "", ""},
                                {"d", "a", "", "", ""},
                                {"e", "1", "", "", ""}});
    EXPECT_EQ(table.value("a").error().message, "parameters define each other in a circle: a → b → c → a");
    EXPECT_EQ(table.value("d").error().message, "parameters define each other in a circle: a → b → c → a");
    EXPECT_EQ(table.errors().size(), 4u);
    EXPECT_TRUE(table.value("e"));
    EXPECT_EQ(table.value("x").error().message, "there is no parameter 'x'");
}

TEST(Parameters, NamesInAnExpression) {
    EXPECT_EQ(parametersIn("Vin * (1 - D) / fsw + D"), (std::vector<std::string>{"Vin", "D", "fsw"}));
    EXPECT_TRUE(parametersIn("47u").empty());
}

TEST(Entry, SetsPartAndValuesFromOneLine) {
    const Catalogue& catalogue = partLibrary().catalogue();
    const auto entry = readEntry("l 47u dcr 12m", catalogue, {});
    ASSERT_TRUE(entry);
    EXPECT_EQ(entry->kind->id, "inductor");
    EXPECT_EQ(*entry->values.find("l"), "47u");
    EXPECT_EQ(*entry->values.find("dcr"), "12m");
    EXPECT_EQ(entry->understood, "47 µH, winding resistance 12 mΩ");
    const auto spaced = readEntry("cap 22 µF esr 5 mΩ", catalogue, {});
    ASSERT_TRUE(spaced);
    EXPECT_EQ(*spaced->values.find("c"), "22 µF");
    EXPECT_EQ(*spaced->values.find("esr"), "5 mΩ");
    const auto sine = readEntry("sine 325 50 phase 30", catalogue, {});
    ASSERT_TRUE(sine);
    EXPECT_EQ(*sine->values.find("f"), "50");
}

TEST(Entry, SaysWhatIsWrongWhileTyping) {
    const Catalogue& catalogue = partLibrary().catalogue();
    EXPECT_EQ(readEntry("zzz", catalogue, {}).error().message, "no part is called 'zzz'");
    EXPECT_EQ(readEntry("r -5", catalogue, {}).error().field, "r");
    EXPECT_EQ(readEntry("r -5", catalogue, {}).error().message,
              "resistance: −5 Ω is out of range, it must be above 0 Ω");
    EXPECT_EQ(readEntry("l 47u dcr", catalogue, {}).error().message, "winding resistance needs a value after it");
    EXPECT_EQ(readEntry("c 10mH", catalogue, {}).error().message,
              "capacitance: this is in H, the field takes F; it must be above 0 F");
    EXPECT_EQ(readEntry("pwm carrier round", catalogue, {}).error().message,
              "carrier: 'round' is not one of saw, falling saw and triangle");
}

TEST(Entry, PointsAtTheWrongCharacter) {
    const Catalogue& catalogue = partLibrary().catalogue();
    EXPECT_EQ(readEntry("r 47x", catalogue, {}).error().message,
              "resistance: 'x' is not a unit (character 3); it must be above 0 Ω");
}

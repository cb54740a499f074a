// Broken project files: each is a clear error or a project that can be checked, run for a moment and saved again.

#include <filesystem>
#include <random>

#include "formats/file.h"
#include "formats/hedge/hedge.h"
#include "network/elaborate.h"
#include "runs/registry.h"
#include "runs/run.h"

using namespace hedgerow;

namespace {

std::vector<std::string> seeds() {
    std::vector<std::string> texts;
    for (const auto& file : std::filesystem::directory_iterator(HEDGEROW_EXAMPLES))
        if (file.path().extension() == ".hedge") texts.push_back(*readFile(file.path()));
    std::sort(texts.begin(), texts.end());
    // Events come within the moment that is run.
    for (std::string& text : texts)
        for (const std::string key : {"\"at\":\"", "\"over\":\""})
            for (std::size_t at = text.find(key); at != std::string::npos; at = text.find(key, at + 1))
                if (const std::size_t end = text.find('"', at + key.size()); text[end - 1] == 'm') text[end - 1] = 'u';
    return texts;
}

/// What goes wrong with files: flipped bytes, lost and doubled pieces, swapped tokens, wild numbers.
std::string mutated(std::string text, std::mt19937& random) {
    static const std::vector<std::string> tokens = {
        "null",      "true",          "-1",        "1e999",    "99999999999", "\"\"", "[]",
        "{}",        "\"47q\"",       "0",         "-0.5",     "\"D*D*\"",    "[[[",  "\\u0000",
        "\"1/0\"",   "\"1e-320\"",    "\"1e300\"", "\xff\xfe", "\"(((((\"",   "4",    "\"switch\"",
        "\"diode\"", "\"reference\"", "1.5",       "\"R1\"",   "\"0\""};
    const int changes = 1 + static_cast<int>(random() % 4);
    for (int i = 0; i < changes && !text.empty(); ++i) {
        const std::size_t at = random() % text.size(), length = std::min<std::size_t>(random() % 40, text.size() - at);
        switch (random() % 14) {
            case 0:
                text[at] = static_cast<char>(random());
                break;
            case 1:
                text.erase(at, length);
                break;
            case 2:
                text.insert(at, text.substr(at, length));
                break;
            case 3:
                text.resize(at);
                break;
            case 4:
                text.insert(at, tokens[random() % tokens.size()]);
                break;
            case 5:
            case 6: {
                // Replace a whole value after a colon or a comma: stays valid JSON more often.
                const std::size_t start = text.find_first_of(":,[", at);
                if (start == std::string::npos) break;
                std::size_t end = text.find_first_of(",]}", start + 1);
                if (end == std::string::npos) break;
                text.replace(start + 1, end - start - 1, tokens[random() % tokens.size()]);
                break;
            }
            default: {
                // Another digit, or another letter of a name or a value: the file stays readable, the circuit becomes
                // another.
                const std::size_t digit = text.find_first_of("0123456789", at);
                if (digit != std::string::npos) text[digit] = "0123456789umkD/-"[random() % 16];
            }
        }
    }
    return text;
}

}  // namespace

TEST(Fuzz, TenThousandMutatedProjects) {
    const std::vector<std::string> texts = seeds();
    ASSERT_GE(texts.size(), 4u);
    std::mt19937 random(20261123);
    int loadedCount = 0, sound = 0, ran = 0;
    for (int i = 0; i < 10'000; ++i) {
        const std::string text = mutated(texts[random() % texts.size()], random);
        const auto loaded = readHedge(text);
        if (!loaded) {
            ASSERT_FALSE(loaded.error().message.empty());
            ASSERT_GT(loaded.error().line, 0) << loaded.error().message;
            continue;
        }
        ++loadedCount;
        const auto again = readHedge(writeHedge(loaded->project));
        ASSERT_TRUE(again) << again.error().text() << "\n" << text;
        const auto errors = checkProject(loaded->project, partLibrary());
        for (const Error& error : errors) ASSERT_FALSE(error.message.empty());
        if (!errors.empty()) continue;
        ++sound;
        // A moment of the run; the memory limit keeps it short whatever the mutated values are.
        RunSettings settings;
        settings.end = "30u";
        settings.memoryLimit = 4'000'000;
        auto run = Run::prepare(std::make_shared<const Project>(loaded->project), settings);
        if (!run) continue;
        (*run)->execute();
        const RunSummary& summary = (*run)->summary();
        ASSERT_EQ(summary.end == RunEnd::failed, summary.error.has_value());
        ++ran;
    }
    RecordProperty("loaded", loadedCount);
    RecordProperty("ran", ran);
    // The mutations reach every stage.
    EXPECT_GT(loadedCount, 1000);
    EXPECT_GT(sound, 100);
    EXPECT_GT(ran, 100);
}

TEST(Fuzz, ClipboardTextOfAnyKind) {
    std::mt19937 random(5);
    const std::string clip =
        R"({"sheets": [{"parts": [{"name": "R1", "kind": "resistor", "at": [0, 0], "values": {"r": "5"}}], "wires": [{"points": [[0, 0], [8, 0]]}], "labels": []}]})";
    int good = 0;
    for (int i = 0; i < 5000; ++i) good += readClip(mutated(clip, random)) ? 1 : 0;
    EXPECT_GT(good, 100);
    EXPECT_FALSE(readClip("hello"));
}

TEST(Fuzz, ExpressionsOfAnyKind) {
    std::mt19937 random(6);
    const std::string letters = "0123456789.+-*/^()eEkmuµΩVAs %pisqrt,_ \t\xc3\xb5\xff";
    int good = 0;
    for (int i = 0; i < 100'000; ++i) {
        std::string text;
        for (std::size_t n = random() % 24; n > 0; --n) text += letters[random() % letters.size()];
        const auto value = evaluate(text, [](std::string_view) { return Quantity{2, {}}; });
        good += value ? 1 : 0;
        ASSERT_TRUE(value ? std::isfinite(value->value) : value.error().position >= 0) << text;
        (void)parametersIn(text);
    }
    EXPECT_GT(good, 1000);
}

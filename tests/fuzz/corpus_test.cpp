// The corpus of the fuzzer in the ordinary tests: whatever once fell, and small samples of every format.

#include <gtest/gtest.h>

#include <filesystem>
#include <random>

#include "formats/file.h"
#include "fuzz/readers.h"

using namespace hedgerow;
namespace fs = std::filesystem;

TEST(Corpus, EveryReaderTakesAnyBytes) {
    for (const auto& [name, read] : test::readers()) {
        SCOPED_TRACE(name);
        const fs::path folder = fs::path(HEDGEROW_CORPUS) / name;
        ASSERT_TRUE(fs::is_directory(folder)) << "a reader without samples";
        int count = 0;
        for (const auto& entry : fs::directory_iterator(folder)) {
            SCOPED_TRACE(entry.path().filename().string());
            const auto bytes = readFile(entry.path());
            ASSERT_TRUE(bytes) << bytes.error().message;
            read(*bytes);
            ++count;
        }
        EXPECT_GT(count, 0) << "a reader without samples";
        read("");
    }
}

// A little of what the fuzzer does, with the same seeds every time.
TEST(Corpus, DamagedSamplesAreTaken) {
    std::mt19937 random(5);
    for (const auto& [name, read] : test::readers()) {
        SCOPED_TRACE(name);
        const bool slow = name == "hdf5" || name == "ledger" || name == "run-head";
        for (const auto& entry : fs::directory_iterator(fs::path(HEDGEROW_CORPUS) / name))
            for (int trial = 0; trial < (slow ? 4 : 40); ++trial) {
                std::string bytes = *readFile(entry.path());
                for (auto changes = 1 + random() % 4; changes > 0 && !bytes.empty(); --changes) {
                    const std::size_t at = random() % bytes.size();
                    if (random() % 3 == 0)
                        bytes.erase(at, random() % 20);
                    else
                        bytes[at] = static_cast<char>(random());
                }
                read(bytes);
            }
    }
}

// Files of the HDF5 library that other programs wrote, and files that lie about what they hold.

#include <cstdlib>
#include <cstring>
#include <random>
#include <stdexcept>

#include "base/apart.h"
#include "formats/file.h"
#include "formats/hdf5/hdf5_file.h"
#include "ledger/measured_run.h"
#include "support/folder.h"

namespace hedgerow {
namespace {

constexpr hsize_t count = 1000;

double number(hsize_t i) { return 0.25 * static_cast<double>(i) - 7; }

struct Packing {
    const char* name;
    hsize_t chunk;  ///< 0: all in a row
    bool shuffle = false, deflate = false, checksum = false;
};

/// A column of count numbers of `type`, as /traces/x and as /time, by the library itself and with its oldest
/// structures.
void writeForeign(const std::filesystem::path& path, const Packing& packing, hid_t type = H5T_IEEE_F64LE) {
    const auto held = hdf5::lock();
    const hdf5::Handle file(H5Fcreate(path.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
    const hdf5::Handle space(H5Screate_simple(1, &count, nullptr), H5Sclose);
    const hdf5::Handle making(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    if (packing.chunk > 0) H5Pset_chunk(making, 1, &packing.chunk);
    if (packing.shuffle) H5Pset_shuffle(making);
    if (packing.deflate) H5Pset_deflate(making, 6);
    if (packing.checksum) H5Pset_fletcher32(making);
    const hdf5::Handle group(hdf5::createGroup(file, "traces"), H5Gclose);
    std::vector<double> numbers(count);
    for (hsize_t i = 0; i < count; ++i) numbers[i] = number(i);
    for (const char* name : {"time", "traces/x"}) {
        const hdf5::Handle data(H5Dcreate2(file, name, type, space, H5P_DEFAULT, making, H5P_DEFAULT), H5Dclose);
        ASSERT_GE(H5Dwrite(data, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, numbers.data()), 0);
    }
}

std::optional<std::vector<double>> readBack(const std::filesystem::path& path, hsize_t first = 0,
                                            std::optional<hsize_t> many = {}) {
    const auto held = hdf5::lock();
    const hdf5::Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    if (!file.good()) return {};
    return many ? hdf5::readColumn(file, "traces/x", first, *many) : hdf5::readColumn(file, "traces/x");
}

const std::vector<Packing>& packings() {
    static const std::vector<Packing> all = {
        {"in a row", 0},
        {"unpacked pieces", 64},
        {"checked pieces", 64, false, false, true},
        {"packed pieces", 96, false, true, false},
        {"shuffled, packed and checked pieces", 300, true, true, true},
        {"one piece", count, true, true, false},
    };
    return all;
}

TEST(Hdf5Columns, ReadHoweverTheyArePacked) {
    test::TemporaryFolder folder;
    for (const Packing& packing : packings())
        for (const hid_t type : {H5T_IEEE_F64LE, H5T_IEEE_F32BE, H5T_STD_I16LE}) {
            const auto path = folder.path() / "x.h5";
            writeForeign(path, packing, type);
            const auto all = readBack(path), some = readBack(path, 250, 400);
            ASSERT_TRUE(all && some) << packing.name;
            ASSERT_EQ(all->size(), count);
            ASSERT_EQ(some->size(), 400u);
            const bool whole = type == H5T_STD_I16LE;
            for (hsize_t i = 0; i < count; ++i)
                ASSERT_EQ((*all)[i], whole ? std::trunc(number(i)) : number(i)) << packing.name << " " << i;
            for (hsize_t i = 0; i < 400; ++i) ASSERT_EQ((*some)[i], (*all)[250 + i]) << packing.name << " " << i;
            EXPECT_FALSE(readBack(path, 900, 101)) << packing.name;
        }
}

TEST(Hdf5Columns, PiecesShorterThanTheyClaimAreRefused) {
    test::TemporaryFolder folder;
    const auto path = folder.path() / "x.h5";
    writeForeign(path, {"packed", 64, false, true, false});
    {
        const auto held = hdf5::lock();
        const hdf5::Handle file(H5Fopen(path.c_str(), H5F_ACC_RDWR, H5P_DEFAULT), H5Fclose);
        const hdf5::Handle data(H5Dopen2(file, "traces/x", H5P_DEFAULT), H5Dclose);
        const hsize_t start = 128;
        const char few[] = "all of it";
        ASSERT_GE(H5Dwrite_chunk(data, H5P_DEFAULT, 1 /* not packed */, &start, sizeof few, few), 0);
    }
    EXPECT_FALSE(readBack(path));
    EXPECT_FALSE(readBack(path, 190, 10));
    EXPECT_TRUE(readBack(path, 0, 128));
}

TEST(Hdf5Columns, ManyNumbersInFewBytesAreRefusedBeforeMemoryIsTaken) {
    test::TemporaryFolder folder;
    const auto path = folder.path() / "x.h5";
    {
        const auto held = hdf5::lock();
        const hdf5::Handle file(H5Fcreate(path.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
        const hsize_t many = hsize_t{1} << 31, chunk = 1 << 20;
        const hdf5::Handle space(H5Screate_simple(1, &many, nullptr), H5Sclose);
        const hdf5::Handle making(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_chunk(making, 1, &chunk);
        const hdf5::Handle data(H5Dcreate2(file, "time", H5T_IEEE_F64LE, space, H5P_DEFAULT, making, H5P_DEFAULT),
                                H5Dclose);
        ASSERT_TRUE(data.good());
    }
    EXPECT_LT(std::filesystem::file_size(path), 10'000u);
    const auto held = hdf5::lock();
    const hdf5::Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    EXPECT_EQ(hdf5::lengthOf(file, "time"), std::size_t{1} << 31);
    EXPECT_FALSE(hdf5::readColumn(file, "time"));
}

TEST(WorkApart, EndsCrashesAndTakesForever) {
    EXPECT_TRUE(*comesToAnEnd([] {}, std::chrono::seconds(5)));
    EXPECT_FALSE(*comesToAnEnd([] { std::abort(); }, std::chrono::seconds(5)));
    EXPECT_FALSE(*comesToAnEnd([] { throw std::runtime_error("no"); }, std::chrono::seconds(5)));
    EXPECT_FALSE(*comesToAnEnd(
        [] {
            for (volatile int i = 0;;) i = i + 1;
        },
        std::chrono::seconds(1)));
    // What it does stays there.
    int here = 1;
    EXPECT_TRUE(*comesToAnEnd([&] { here = 2; }, std::chrono::seconds(5)));
    EXPECT_EQ(here, 1);
}

TEST(Hdf5Columns, DamageNeverCrashes) {
    test::TemporaryFolder folder;
    std::mt19937 random(11);
    const auto path = folder.path() / "x.h5";
    int refused = 0;
    for (const Packing& packing : packings()) {
        writeForeign(path, packing);
        const std::string whole = *readFile(path);
        for (int k = 0; k < 40; ++k) {
            std::string bytes = whole;
            if (k % 3 == 0) bytes.resize(random() % bytes.size());
            for (int n = 0; n < 1 + k % 8 && !bytes.empty(); ++n)
                bytes[random() % std::min<std::size_t>(bytes.size(), k % 2 ? 3000 : bytes.size())] =
                    static_cast<char>(random());
            ASSERT_TRUE(writeFileAtomically(path, bytes));
            const auto read = openMeasured(path);
            refused += !read;
            EXPECT_TRUE(read || !read.error().message.empty());
        }
    }
    EXPECT_GT(refused, 100);
}

}  // namespace
}  // namespace hedgerow

// One reader for the fuzzer: which one, FUZZ_READER says.

#include <cstddef>
#include <cstdint>

#include "fuzz/readers.h"

/// The HDF5 library forgets memory of its own where a file is damaged (1.10.8 of Debian 12); what is ours is looked for.
extern "C" const char* __lsan_default_suppressions() { return "leak:libhdf5\n"; }

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const hedgerow::test::Reader& read = hedgerow::test::readers().at(FUZZ_READER);
    read({reinterpret_cast<const char*>(data), size});
    return 0;
}

// One reader for the fuzzer: which one, FUZZ_READER says.

#include <cstddef>
#include <cstdint>

#include "fuzz/readers.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const hedgerow::test::Reader& read = hedgerow::test::readers().at(FUZZ_READER);
    read({reinterpret_cast<const char*>(data), size});
    return 0;
}

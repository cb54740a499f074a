#pragma once
// Several numbers at once.

#include <cstddef>

// One binary for all processors: the loader takes the widest version that the machine has. No fused multiply-add, which
// would round differently. The sanitizers cannot be asked which one to take before they are set up.
#if defined(__x86_64__) && defined(__gnu_linux__) && !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
#define HEDGEROW_WIDE __attribute__((target_clones("default", "avx2")))
#else
#define HEDGEROW_WIDE
#endif

namespace hedgerow::exact {

constexpr std::size_t lanes = 4;
typedef double Lanes __attribute__((vector_size(lanes * sizeof(double))));

}  // namespace hedgerow::exact

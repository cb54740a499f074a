#pragma once
// A disk that fails: stands between the test program, with all its libraries, and the system's writing functions.

namespace hedgerow::test {

/// From now on the n-th write (or flush, or renaming) fails as on a full disk, and with `forGood` all after it.
/// @param n  0 for none
void failWrites(int n, bool forGood);
/// Whether any failed since.
bool writesFailed();

}  // namespace hedgerow::test

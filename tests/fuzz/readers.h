#pragma once
// Every reader of texts and files, as something that takes any bytes: for the fuzzer (tests/fuzz/CMakeLists.txt) and
// for the corpus that is read in the ordinary tests. A reader returns; it never throws or falls.

#include <functional>
#include <map>
#include <string>
#include <string_view>

namespace hedgerow::test {

using Reader = std::function<void(std::string_view bytes)>;
/// By name; the folders of the corpus bear the same names.
const std::map<std::string, Reader>& readers();

}  // namespace hedgerow::test

#include "support/places.hpp"

namespace kasane::test {

// Defined for this file alone, so that no other is compiled anew for another folder.
const char* const kCommand = KASANE_COMMAND;
const char* const kBuild = KASANE_BUILD_DIR;
const char* const kFaultShim = KASANE_FAULT_SHIM;
const char* const kSources = KASANE_SOURCE_DIR;

} // namespace kasane::test

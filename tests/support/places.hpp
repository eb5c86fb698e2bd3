// Where the build put the programs under test, and where the sources lie.
#pragma once

namespace kasane::test {

extern const char* const kCommand;   // the command
extern const char* const kBuild;     // the folder of the build
extern const char* const kFaultShim; // the library that makes calls fail (test_io_faults.cpp)
extern const char* const kSources;   // the root of the sources

} // namespace kasane::test

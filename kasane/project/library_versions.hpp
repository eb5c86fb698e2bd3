// What this program was built upon.
#pragma once

#include <string>
#include <vector>

namespace kasane {

struct LibraryVersion {
    std::string name, version;
};

/// Of libraries that may be replaced, as they run; of Eigen and fmt as they were compiled.
std::vector<LibraryVersion> library_versions();

} // namespace kasane

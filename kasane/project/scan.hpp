// Finding the files of a project and reading what their headers say.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/frames/findings.hpp>
#include <kasane/project/ledger.hpp>

#include <filesystem>
#include <vector>

namespace kasane {

struct Scan {
    std::vector<Exposure> exposures; ///< by path; roles and nights filled in
    std::vector<Finding> findings;   ///< files that could not be read
    int other_files = 0;             ///< of formats that are not exposures
    int from_ledger = 0;             ///< known already and unchanged
};

/// Reads the headers of all exposures below `folder`, skipping hidden folders, `skip` and Kasane's own results. With a
/// ledger, unchanged files (size and time) are not opened. Throws InputError if the folder is not one.
Scan scan_folder(const std::filesystem::path& folder, const std::filesystem::path& skip, Ledger* ledger,
                 const Context& context);

} // namespace kasane

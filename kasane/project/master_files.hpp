// Master lights as they lie there: those of the last run, and any linear image. Internal to project/.
#pragma once

#include <kasane/io/header.hpp>
#include <kasane/stages/options.hpp>

#include <filesystem>
#include <string>
#include <vector>

namespace kasane {

/// A master light as it lies there.
struct MasterFile {
    std::filesystem::path file;
    std::string name;   ///< of the stack, or the file
    std::string filter; ///< as its header says it; may be empty
    std::string target;
    int width = 0, height = 0, planes = 1;
    Header header;
    std::vector<double> noise; ///< by plane, as stated; empty: not stated
    bool ours = false;         ///< Kasane wrote it
    bool mosaic = false;       ///< a colour sensor's exposure: its three planes are made of the one it has
};

/// The master lights of the last run that are there. Throws UsageError where there are none, "that could be `done`".
struct RunMasters {
    std::filesystem::path output; ///< the run's folder
    std::vector<std::filesystem::path> files;
};
RunMasters masters_of_last_run(const RunOptions& project, const std::string& done);

/// Throws InputError for what cannot be read or is no linear image.
MasterFile master_of(const std::filesystem::path& file);

} // namespace kasane

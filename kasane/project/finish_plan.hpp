// What becomes of which master lights when they are finished: which make a picture in colour, and which stay alone.
// Internal to project/.
#pragma once

#include <kasane/finishing/finish_options.hpp>
#include <kasane/io/header.hpp>
#include <kasane/project/run.hpp>

#include <filesystem>
#include <string>
#include <vector>

namespace kasane {

/// A master light as it lies there.
struct MasterFile {
    std::filesystem::path file;
    std::string name;   ///< of the stack, or the file
    std::string filter; ///< folded; may be empty
    std::string target;
    int width = 0, height = 0, planes = 1;
    Header header;
    std::vector<double> noise; ///< by plane, as stated; empty: not stated
};

/// What becomes one image.
struct FinishPlan {
    std::string name;
    std::vector<const MasterFile*> sources; ///< of one plane each, or one of three
    Palette palette;                        ///< empty: one plane
    const MasterFile* luminance = nullptr;
};

/// The master lights of the last run that are there. Throws UsageError where there are none, "that could be `done`".
struct RunMasters {
    std::filesystem::path output; ///< the run's folder
    std::vector<std::filesystem::path> files;
};
RunMasters masters_of_last_run(const RunOptions& project, const std::string& done);

/// Throws InputError for what cannot be read or is no linear image.
MasterFile master_of(const std::filesystem::path& file);

/// Of images of one target, or of such that are named (`strict`) and belong together. What is not made of them, and
/// why, is added to `notes`. Throws UsageError where what is asked for cannot be.
std::vector<FinishPlan> plan_finish(const std::vector<const MasterFile*>& group, const FinishOptions& options,
                                    bool strict, std::vector<std::string>& notes);

} // namespace kasane

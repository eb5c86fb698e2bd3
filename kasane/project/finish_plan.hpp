// What becomes of which master lights when they are finished: which make a picture in colour, and which stay alone.
// Internal to project/.
#pragma once

#include <kasane/finishing/finish_options.hpp>
#include <kasane/project/master_files.hpp>

#include <string>
#include <vector>

namespace kasane {

/// What becomes one image.
struct FinishPlan {
    std::string name;
    std::vector<const MasterFile*> sources; ///< of one plane each, or one of three
    Palette palette;                        ///< empty: one plane
    const MasterFile* luminance = nullptr;
};

/// Of images of one target, or of such that are named (`strict`) and belong together. What is not made of them, and
/// why, is added to `notes`. Throws UsageError where what is asked for cannot be.
std::vector<FinishPlan> plan_finish(const std::vector<const MasterFile*>& group, const FinishOptions& options,
                                    bool strict, std::vector<std::string>& notes);

} // namespace kasane

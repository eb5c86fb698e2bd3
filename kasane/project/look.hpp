// One light of a project before and after calibration: pictures and figures.
#pragma once

#include <kasane/calibration/flat_fit.hpp>
#include <kasane/project/run.hpp>

#include <filesystem>
#include <optional>

namespace kasane {

struct CalibrationLook {
    std::string file, project;    ///< relative to the project; the project's folder
    Exposure exposure;            ///< as the project knows it
    std::string dark, bias, flat; ///< masters by name; empty: none
    std::string dark_reason, flat_reason, dark_note;
    Illumination before, after; ///< the offset taken off both
    int defects_repaired = 0;   ///< by the sensor's map and by the light's own
    FlatFit flat_fit;
    Region crop;         ///< of the crops in the picture, in sensor pixels
    std::string picture; ///< file
    std::vector<Finding> findings;
};

/// The folder of the project that a file lies in: `folder` if the file is below it and it has a recipe or a ledger,
/// else the nearest folder above the file that has; nothing if there is none.
std::optional<std::filesystem::path> project_of(const std::filesystem::path& file, const std::filesystem::path& folder);

/// Calibrates one light as a run would, making the masters that it needs where they are not made yet. `picture`
/// receives four views, stretched alike from the same limits: above the whole frame before (its offset taken off) and
/// after, below a crop of both at pixel scale where they differ most. Nothing if the file is no light of the project.
/// Throws InputError, OutputError.
std::optional<CalibrationLook> look_at_calibration(const RunOptions& options, const std::filesystem::path& file,
                                                   const Context& context, Raster<std::uint8_t>& picture);

} // namespace kasane

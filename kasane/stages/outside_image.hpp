// An image that is no light of the project: measured like one, so that others can be brought onto its grid.
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/stages/session.hpp>

#include <filesystem>
#include <memory>
#include <optional>
#include <string>

namespace kasane {

/// The pixels of any image that can be read, as they are: colour filter arrays become colours. Throws InputError.
std::shared_ptr<const FrameView> view_of_image(const std::filesystem::path& file, PixelCache* cache = nullptr);

/// Where its pixels lie on the sky, rows from above, as its header says; nothing if it does not, or cannot be read.
std::optional<WorldCoordinates> world_of_image(const std::filesystem::path& file);

/// Where [registration] onto leads.
std::filesystem::path outside_file(const Session& session);
/// Identity of the content of that file; nothing if it cannot be read.
std::optional<std::string> outside_identity(const Session& session);

/// Its measures, from the ledger where known. Throws InputError; DataError where the budget does not hold it.
std::shared_ptr<const ExposureMeasures> measure_outside(Session& session);

/// With as many stars as two images of very different fields need to have some in common.
MeasureOptions many_stars();

/// Measures an image that is held in memory whole meanwhile. Throws InputError; DataError where the budget does not
/// hold it.
ExposureMeasures measure_image(const FrameView& view, const MemoryBudget& memory, const MeasureOptions& options = {});

} // namespace kasane

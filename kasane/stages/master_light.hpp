// What can be said of a finished master light, and its files.
#pragma once

#include <kasane/integration/integrate.hpp>
#include <kasane/ledger/records.hpp>

#include <filesystem>
#include <optional>
#include <vector>

namespace kasane {

/// What is told of the noise of a mosaic holds where as much lies as in most of it, not where all of the stack's weight
/// would: no place has that. Returns the factor.
double take_usual_coverage(MasterLight& master);

/// What is drawn of a master light; empty: not drawn yet.
struct LightPictures {
    Raster<std::uint8_t> preview, rejected;
};

/// Fills in noise and rejected shares. Resampling correlates the noise of neighbouring pixels and lowers it; the
/// figures are those of uncorrelated pixels, so that they can be compared honestly.
void describe_noise(const MasterLight& master, StackReport& report);
/// Fills in what its stars tell: their shape, and what makes them white. Meanwhile draws what does not depend on them.
LightPictures describe_stars(const MasterLight& master, StackReport& report, const Workers& workers);

/// The cards that tell where the canvas lies, if it is not the reference's own grid.
void describe_canvas(const Canvas& canvas, Header& header);

/// Writes `output`/report.file (32-bit FITS with provenance, coverage as an extension) and the stretched preview
/// `output`/report.preview. `exposures` are the frames combined, in order; a pixel of the canvas is as large as
/// `finer` of the first one's. Throws OutputError.
void write_master_light(const std::filesystem::path& output, const MasterLight& master,
                        const std::vector<const Exposure*>& exposures, const StackReport& report,
                        const std::optional<WorldCoordinates>& world, const Canvas& canvas, double finer,
                        LightPictures pictures, const Workers& workers);

} // namespace kasane

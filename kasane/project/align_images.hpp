// Images of any origin on the grid of another: masters, stills, another camera's; no project is needed.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/registration/model.hpp>
#include <kasane/registration/register.hpp>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct ImageAlignOptions {
    std::vector<std::filesystem::path> files;
    std::filesystem::path onto;   ///< gives the grid
    std::filesystem::path folder; ///< where the images on the grid go; empty: nothing is written
    std::optional<Model> model;   ///< nothing: the one that the stars ask for
};

/// One image against the grid.
struct AlignedImage {
    std::filesystem::path file, written; ///< `written` empty: nothing was
    bool registered = false;
    std::string text;  ///< why not
    std::string model; ///< "projective with radial distortion"
    std::string way;   ///< how it was found where not at once
    int stars = 0, matched = 0;
    double rms = 0, expected = 0;
    double shift_x = 0, shift_y = 0; ///< of its middle against the grid's, pixels of the grid
    double turn = 0, scale = 1;      ///< degrees, counter-clockwise as displayed; its pixels along one of the grid
    bool mirrored = false;
    double covered = 0; ///< share of the grid that it covers
    std::string world;  ///< where the written file's position on the sky comes from; empty: it has none
};

struct ImageAlignReport {
    std::filesystem::path onto, folder;
    int width = 0, height = 0, stars = 0; ///< of the grid and its image
    std::vector<AlignedImage> images;
    double time = 0;
    bool clean() const; ///< every image registered
};

/// Registers each image onto the grid of `onto` (scale 0.2 to 5, any turn, mirrored, distorted against each other), and
/// writes it there as `folder`/NAME.on-GRID.fits where a folder is named: 32-bit FITS with coverage, provenance, and
/// world coordinates where either header has them. Surface brightness is kept (integration/regrid.hpp). An image that
/// cannot be registered or read is told in the report; the others go on. Throws UsageError where two results would have
/// one name or somebody else's file is in the way (before any work), InputError where `onto` cannot be read.
ImageAlignReport align_images(const ImageAlignOptions& options, const Context& context);

} // namespace kasane

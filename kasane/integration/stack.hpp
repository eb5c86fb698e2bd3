// What an integration is made of: the frames of a stack, each with its way to the canvas and its level; and what comes
// out.
#pragma once

#include <kasane/base/error.hpp>
#include <kasane/base/provenance.hpp>
#include <kasane/combination/rejection.hpp>
#include <kasane/geometry/canvas.hpp>
#include <kasane/image/plane_source.hpp>
#include <kasane/integration/burnt_cells.hpp>
#include <kasane/integration/moving_light.hpp>
#include <kasane/normalization/level_map.hpp>
#include <kasane/stars/streaks.hpp>

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// One plane of an exposure.
struct StackPlane {
    Transform to_frame;         ///< from the canvas to pixels of the source's grid
    LevelMap level;             ///< brings it to the stack's level
    double noise = 0;           ///< of a background sample (Measures::noise), ADU
    double fwhm = 0;            ///< of its stars, pixels of the source; 0: not known
    double misplaced = 0.03;    ///< by which it may lie beside its place, pixels of the source
    double scale_error = 0.005; ///< share of its signal that its scale and its flat may be off
};

/// One exposure of a stack.
struct StackFrame {
    std::shared_ptr<const PlaneSource> source;
    std::vector<StackPlane> planes;      ///< as the source has them
    double electrons_per_adu = 0;        ///< 0: unknown
    std::vector<Streak> streaks{};       ///< trails that do not count, pixels of the source
    double emphasis = 1;                 ///< factor of its weight
    int length = 0;                      ///< 0: of the longest of the stack, 1: of the next, ... (lengths.hpp)
    double saturation = 0;               ///< of its pixels, ADU; 0: not known
    std::vector<Disc> covered{};         ///< stars that do not count, pixels of the source
    std::optional<MovingLight> moving{}; ///< what is taken out of it
    std::vector<Region> burnt{};         ///< where about it is saturated, pixels of the source
};

/// The transform to a plane's own samples.
Transform to_plane(const StackFrame& frame, std::size_t plane);

/// Pixels of a frame in one of the canvas, where the frame's centre lies: a frame of so many samples of one noise tells
/// so much more of a patch of sky.
double pixel_density(const Transform& to_frame, int width, int height);

/// A frame that could not be read while it was integrated.
struct FrameFailure {
    std::size_t frame = 0;
    FileFailure what; ///< which file, its own or a master's, and why
};

/// What one rejection would do to a stack, tried on a sample of its pixels.
struct RejectionTrial {
    Rejection rejection;
    double loss = 0;     ///< of efficiency on clean noise: relative growth of the variance
    double left = 0;     ///< share of the light of injected outliers that is left in the mean
    double left_low = 0; ///< the same of injected gaps
    double cores = 0;    ///< share of samples rejected where the image has structure, beyond that elsewhere
};

struct RejectionComparison {
    std::vector<RejectionTrial> trials;
    std::size_t chosen = 0;
    std::string reason;                  ///< in words
    std::optional<FrameFailure> failure; ///< a frame could not be read: nothing was compared
};

/// How a stack's samples fared, counted over all planes.
struct FrameShare {
    std::uint64_t samples = 0;       ///< with data
    std::uint64_t low = 0, high = 0; ///< rejected
    std::uint64_t streaks = 0;       ///< left out under a trail that was found
    FrameShare& operator+=(const FrameShare& o) {
        samples += o.samples, low += o.low, high += o.high, streaks += o.streaks;
        return *this;
    }
};

/// Shares of the weight that each pixel lost, mean of the planes, in units of 1 / 65535; trails are above.
struct RejectionMaps {
    Raster<std::uint16_t> low, high;
    static constexpr float kUnit = 65535;
};

/// Where samples of a frame were rejected: shares of squares of its pixels, in units of 1 / 255; trails are above.
struct RejectedCells {
    int cell = 0;                        ///< pixels of the frame along the side of a square
    int columns = 0, rows = 0;           ///< of squares
    std::vector<std::uint8_t> low, high; ///< row by row
    static constexpr double kUnit = 255;
};

/// Star cores and other structure: samples there and those rejected, before and after limits were widened; and the same
/// of the rest.
struct CoreShares {
    std::uint64_t samples = 0, at_first = 0, rejected = 0;
    std::uint64_t elsewhere = 0, rejected_elsewhere = 0;
    CoreShares& operator+=(const CoreShares& o) {
        samples += o.samples, at_first += o.at_first, rejected += o.rejected;
        elsewhere += o.elsewhere, rejected_elsewhere += o.rejected_elsewhere;
        return *this;
    }
};

struct MasterLight {
    Image pixels;           ///< one plane or three, ADU of the stack's level; NaN where no frame has data
    Image coverage;         ///< share of the stack's whole weight that each pixel received, 0..1; planes as `pixels`
    Provenance made;        ///< the steps resample, level and combine, with their settings
    CombineOptions combine; ///< as it was done
    std::vector<std::vector<double>> weights; ///< by plane, of the frames, sum 1
    /// By plane, of the background, ADU, as it were without resampling: as its frames let expect, and as one half of
    /// them against the other tells it.
    std::vector<double> expected_noise, noise;
    /// By plane: what the pixels of a drizzled background scatter by, less than `noise`, since neighbours share drops.
    /// Empty: not told.
    std::vector<double> pixel_noise;
    std::uint64_t samples = 0; ///< with data
    std::uint64_t rejected_low = 0, rejected_high = 0;
    std::uint64_t passed_over = 0;   ///< samples made of neighbours that others with real data stood in for
    std::uint64_t under_streaks = 0; ///< samples left out under trails
    std::vector<FrameShare> shares;  ///< by frame
    CoreShares cores;
    RejectionMaps rejected;
    /// Which length makes each pixel: 0 none, 1 the longest, 2 the next, ...; kBurnt more where that is saturated too.
    /// Empty: all frames are of one length.
    Raster<std::uint16_t> lengths;
    static constexpr std::uint16_t kBurnt = 100;
    BurntCells burnt;                              ///< pixels that are saturated in all lengths
    std::uint64_t saturated = 0;                   ///< samples that left since they are
    std::vector<RejectedCells> cells;              ///< by frame
    std::optional<RejectionComparison> comparison; ///< where the rejection was chosen: what each would have done
    /// Set: this frame could not be read on the way, and the pixels are not finished. Integrate again without it.
    std::optional<FrameFailure> failure;
};

} // namespace kasane

// Building calibration masters: many frames of one kind into one, band by band, with outliers rejected.
#pragma once

#include <kasane/base/error.hpp>
#include <kasane/base/parallel.hpp>
#include <kasane/base/provenance.hpp>
#include <kasane/calibration/cfa.hpp>
#include <kasane/combination/choice.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/io/reader.hpp>

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct MasterOptions {
    CfaPattern cfa = {};    ///< flats are levelled by colour
    float offset_level = 0; ///< flats without an offset frame: a constant to be subtracted, ADU
};

/// A finished master and what can be said of it. Units: ADU for bias and darks; flats are ratios with mean 1 in each
/// colour, so that they carry no tint into the lights.
struct MasterResult {
    Image pixels; ///< as many planes as the frames
    int frames = 0;
    double level = 0;                  ///< median of the frames, offset removed for flats; ADU
    std::vector<double> colour_levels; ///< the same by colour, of colour frames
    double frame_noise = 0;            ///< of a single frame (flats: relative), from differences between frames
    double noise = 0;                  ///< of the master: of the mean of what was not rejected; unit of the pixels
    double rejected_share = 0;         ///< of all samples
    double level_spread = 0;           ///< of the frames' levels, highest less lowest; ADU, flats: relative
    double gradient = 0;               ///< from edge to edge, greatest; unit of the pixels
    std::size_t star_pixels = 0;       ///< of a sky flat, patched: stars that stood still through all frames
    Provenance made;                   ///< the steps level and combine, with their settings
    /// Set: this frame could not be read, or does not serve, and there are no pixels. Build again without it.
    struct FrameFailure {
        std::size_t frame = 0;
        FileFailure what;
    };
    std::optional<FrameFailure> failure;
};

/// Combines frames of one kind. Flats have `offset` subtracted (may be null); each is brought to one level by colour
/// and to the tilt that the frames have in common before anything is rejected, so that neither panel flicker nor
/// twilight nor a tinted panel biases it; the result has mean 1 in each colour. Stars that stay in place in a sky flat
/// are replaced by the flat around them. Of two frames that disagree beyond all noise the lower counts.
/// Memory: the result plus bands within the budget, whatever the number of frames. Progress advances by each pixel of
/// each plane of the master.
/// A frame that cannot be read, has another size, or is a flat without light is told in the result. Throws InputError
/// if the offset cannot be read, DataError if there are no frames.
MasterResult build_master(Role role, const std::vector<std::shared_ptr<const FrameReader>>& frames,
                          const FrameReader* offset, const Context& context, const MasterOptions& options = {});

/// What a camera's flats and bias frames tell of it.
struct PhotonTransfer {
    double electrons_per_adu = 0; ///< 0: could not be measured
    double read_noise = 0;        ///< electrons; 0: not measured
    double saturation = 0;        ///< ADU: level at which pixels pile up; 0: none do
};

/// Conversion gain, read noise and saturation by photon transfer (J. Janesick, K. Klaasen, T. Elliott, Opt. Eng. 26,
/// 1987): the variance of differences between flats of one level grows with the signal by 1 / gain. From at most eight
/// pairs of neighbours in `flats`; `bias` (may hold fewer than two) gives the read noise, else the fit's intercept
/// where the flats span enough levels. Throws InputError.
PhotonTransfer measure_photon_transfer(const std::vector<std::shared_ptr<const FrameReader>>& flats,
                                       const std::vector<std::shared_ptr<const FrameReader>>& bias,
                                       const FrameReader* offset, float offset_level, const Workers& workers);

} // namespace kasane

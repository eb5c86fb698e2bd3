// The noise of an exposure's background: from its level, where enough is known of the camera and the masters, and from
// its pixels.
//
// Why both: pixels tell too much where stars and nebula lie closer than a few pixels; a level tells nothing of what is
// not known. They are held against each other.
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/stars/background.hpp>

#include <string>

namespace kasane {

/// What is known of the noise of a light beside its pixels. In ADU of the raw file.
struct SensorNoise {
    double electrons_per_adu = 0;   ///< 0: unknown
    double dark_variance = 0;       ///< of a pixel without light: readout, dark current, quantisation; 0: unknown
    double subtracted_variance = 0; ///< of what is subtracted from it: the noise of a master dark
    double flat_noise = 0;          ///< of the master flat, relative, where it is 1
    bool known() const { return electrons_per_adu > 0 && dark_variance > 0; }
    /// What is wrong with it, in words; empty: nothing.
    std::string check() const;
};

/// Noise of a background sample of one plane, ADU after calibration.
struct ExpectedNoise {
    double sigma = 0;      ///< 0: not enough is known
    double flat_share = 0; ///< by how much the noise of the master flat raises it, relative
};

/// By photon transfer (J. Janesick, K. Klaasen, T. Elliott, Opt. Eng. 26, 1987): of a pixel of level S over a flat f,
///   S / (g f) + (dark + subtracted) / f^2 + S^2 n^2 / f,
/// averaged over the cells of the mesh, and their median. `background` is that of the plane. Where planes are binned
/// from a mosaic, the mean of so many samples counts. Throws InputError if the flat cannot be read.
ExpectedNoise expected_noise(const FrameView& view, int plane, const Background& background, const SensorNoise& sensor);

/// Which of the two stands: what is expected, unless the pixels contradict. They can tell too much, and no more than
/// their texture explains; never too little.
struct FrameNoise {
    double sigma = 0;
    bool from_level = false;
};
FrameNoise settle_noise(double expected, const Background& background);

} // namespace kasane

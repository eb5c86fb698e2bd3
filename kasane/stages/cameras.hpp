// Gain, read noise and saturation of the cameras: determined once from flats, and kept.
#pragma once

#include <kasane/stages/session.hpp>

#include <string>

namespace kasane {

/// What is known of a camera's electrons, and how.
struct NoiseModel {
    double electrons_per_adu = 0; ///< 0: unknown
    double saturation = 0;        ///< ADU; 0: unknown
    std::string source;           ///< "photon transfer of flat-L-2031-03-12"
};
/// By what is known of the camera at this gain, else by the header.
NoiseModel noise_model(const Session& session, const Exposure& light);
std::string camera_key(const Exposure& exposure);
/// Cameras that earlier runs determined.
void recall_cameras(Session& session);
/// Determines those that are not known yet from the flats that were made, and corrects those that are measurably wrong.
void settle_cameras(Session& session);

} // namespace kasane

// Reports from JSON and back, as the ledger keeps them.
#pragma once

#include <kasane/ledger/records.hpp>

#include <nlohmann/json.hpp>

namespace kasane {

NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(FrameReport, path, identity, night, used, reason, seconds, stars, fwhm, eccentricity,
                                   background, noise, scale, worth, weight, matched, rms, rotation, shift_x, shift_y,
                                   dark, flat, dark_note, own_defects, transparency, by_hand, unread)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(StackDoubt, code, files, text, remedy)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(StackReport, doubts, name, target, filter, sensor, file, preview, reference,
                                   reference_fingerprint, frames, used, dropped, seconds_total, seconds_effective,
                                   noise, colour_method, colour_noise, channel_scales, defects, noise_model,
                                   electrons_per_adu, passed_over, fwhm, eccentricity, rejected_low, rejected_high,
                                   time, reused, failure, identity, unread)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(MasterReport, name, role, file, frames, level, colour_levels, frame_noise, noise,
                                   rejected_share, level_spread, gradient, star_pixels, combination, electrons_per_adu,
                                   read_noise, saturation, doubts, preview, offset, time, reused, members, left_out,
                                   unread)

} // namespace kasane

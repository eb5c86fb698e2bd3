// Reports from JSON and back, as the ledger keeps them.
#pragma once

#include <kasane/ledger/records.hpp>

#include <nlohmann/json.hpp>

namespace kasane {

inline void to_json(nlohmann::json& j, const Provenance::Input& input) {
    j = {{"kind", input.kind == Provenance::Input::Kind::master ? "master" : "exposure"},
         {"identity", input.identity},
         {"name", input.name},
         {"note", input.note}};
}
inline void from_json(const nlohmann::json& j, Provenance::Input& input) {
    using Kind = Provenance::Input::Kind;
    input = {j.at("kind") == "master" ? Kind::master : Kind::exposure, j.at("identity"), j.at("name"), j.at("note")};
}
inline void to_json(nlohmann::json& j, const Provenance::Step& step) {
    j = {{"name", step.name}, {"text", step.text}, {"settings", nlohmann::json::object()}, {"inputs", step.inputs}};
    for (const auto& [name, value] : step.settings)
        j["settings"][name] = value;
}
inline void from_json(const nlohmann::json& j, Provenance::Step& step) {
    step = {j.at("name"), j.at("text"), {}, j.at("inputs")};
    for (const auto& [name, value] : j.at("settings").items())
        step.set(name, value);
}
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(Provenance, steps)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(FrameReport, path, identity, night, used, reason, seconds, stars, fwhm, eccentricity,
                                   background, noise, scale, scale_error, worth, weight, matched, rms, expected_rms,
                                   registered_by, registered_how, rotation, shift_x, shift_y, dark, flat, dark_note,
                                   own_defects, transparency, by_hand, unread, rejected_low, rejected_high,
                                   under_streaks, length, panel)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(RejectionReport, method, text, loss, left, left_low, cores, chosen)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(SamplingReport, text, drizzled, fwhm, phase_cells, scale, drop, restored,
                                   drizzled_fwhm, interpolated_fwhm, gain, cost, holes, picture)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(PanelReport, name, x, y, used, dropped, seconds, effective)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(LengthReport, seconds, lights, share, matched)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(BurntReport, pixels, x, y, width, height, largest)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(CometPlaceReport, file, x, y, off_x, off_y, found, smear)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(CometReport, file, preview, both_file, both_preview, text, noise, rms, rate, angle,
                                   smear, places, unread)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(WeightCost, weights, noise, fwhm)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(StackDoubt, code, files, text, remedy)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(FormerReport, picture, used, seconds)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(StackReport, doubts, name, target, filter, sensor, file, preview, reference,
                                   reference_fingerprint, reference_reason, runners_up, frames, used, dropped,
                                   seconds_total, seconds_effective, noise, expected_noise, noise_from_level,
                                   flat_noise_share, levels, colour_method, colour_noise, channel_scales, defects,
                                   noise_model, electrons_per_adu, passed_over, fwhm, eccentricity, rejected_low,
                                   rejected_high, time, reused, made, failure, identity, unread, optics, canvas, world,
                                   under_streaks, combination, rejection_trials, core_samples, core_rejected_at_first,
                                   core_rejected, rejected_elsewhere, weights, weight_costs, rejection_picture,
                                   lights_fwhm, pixel_noise, sampling, lengths, panels, burnt, comet, former,
                                   zero_point, area_noise)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(CompositePartReport, name, factor, weight)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(CompositeReport, name, kind, file, preview, text, parts, noise, seconds_total, time,
                                   reused)
NLOHMANN_DEFINE_TYPE_NON_INTRUSIVE(MasterReport, name, role, file, frames, level, colour_levels, frame_noise, noise,
                                   rejected_share, level_spread, gradient, star_pixels, combination, electrons_per_adu,
                                   read_noise, saturation, doubts, preview, offset, made, time, reused, members,
                                   left_out, unread)

} // namespace kasane

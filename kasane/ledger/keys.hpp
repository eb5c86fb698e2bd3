// What results are keyed by. Every key is made of whole records: options and metadata are visited member by member
// (base/members.hpp), so that nothing that matters can be forgotten. Not for
// other than ledger/ and stages/.
#pragma once

#include <kasane/base/members.hpp>
#include <kasane/grading/judge.hpp>
#include <kasane/grading/limits.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/recipe/recipe.hpp>

#include <string>
#include <tuple>

namespace kasane {

/// The version of the numerics: part of every key, raised when a change alters results.
inline constexpr const char* kNumerics = "25";

/// What is known of an exposure beside its pixels: all of it but where it lies and how it is known. `E` may be const.
template <class E>
requires std::is_same_v<std::remove_const_t<E>, Exposure>
auto metadata_of(E& e) {
    auto& [path, fingerprint, identity, format, linear, width, height, planes, bits, role, role_confidence, is_master,
           made_by_kasane, inputs, input_frames, seconds, start, start_local, time, night, gain, gain_is_iso, offset,
           electrons_per_adu, temperature, temperature_set, binning_x, binning_y, filter, cfa, camera, telescope,
           target, focal_length_mm, pixel_um, saturation, black_level, right_ascension, declination, latitude,
           longitude, orientation, pier_side, rotator, turn, world, sources, problems] = e;
    // Left out: path, fingerprint and world (the identity says more), role_confidence, sources and problems (how it is
    // known).
    return std::tie(identity, format, linear, width, height, planes, bits, role, is_master, made_by_kasane, inputs,
                    input_frames, seconds, start, start_local, time, night, gain, gain_is_iso, offset,
                    electrons_per_adu, temperature, temperature_set, binning_x, binning_y, filter, cfa, camera,
                    telescope, target, focal_length_mm, pixel_um, saturation, black_level, right_ascension, declination,
                    latitude, longitude, orientation, pier_side, rotator, turn);
}

inline auto members(const Region& r) {
    const auto& [x, y, width, height] = r;
    return std::tie(x, y, width, height);
}
inline auto members(const DetectOptions& o) {
    const auto& [threshold, floor, filter_sigma, least, most, area, border, saturation, electrons_per_adu] = o;
    return std::tie(threshold, floor, filter_sigma, least, most, area, border, saturation, electrons_per_adu);
}
inline auto members(const OwnCorrectionOptions& o) {
    const auto& [lone_pixels, lone_sigmas, spills, saturation, equalise_rows, equalise_columns] = o;
    return std::tie(lone_pixels, lone_sigmas, spills, saturation, equalise_rows, equalise_columns);
}
inline auto members(const StreakOptions& o) {
    const auto& [size, threshold, least_length, most] = o;
    return std::tie(size, threshold, least_length, most);
}
inline auto members(const SensorNoise& n) {
    const auto& [electrons_per_adu, dark_variance, subtracted_variance, flat_noise] = n;
    return std::tie(electrons_per_adu, dark_variance, subtracted_variance, flat_noise);
}
inline auto members(const MeasureOptions& o) {
    const auto& [detect, own, streaks, sensor, kept_stars, preview_size] = o;
    return std::tie(detect, own, streaks, sensor, kept_stars, preview_size);
}
inline auto members(const Bound& b) {
    const auto& [reference, of_night, number, spreads] = b;
    return std::tie(reference, of_night, number, spreads);
}
inline auto members(const Condition& c) {
    const auto& [measure, above, or_equal, bound] = c;
    return std::tie(measure, above, or_equal, bound);
}
inline auto members(const Ranking& r) {
    const auto& [count, percent, by] = r;
    return std::tie(count, percent, by);
}
inline auto members(const Limit& l) {
    const auto& [conditions, ranking, filters, night] = l;
    return std::tie(conditions, ranking, filters, night);
}
inline auto members(const Decision& d) {
    const auto& [keep, note] = d;
    return std::tie(keep); // a note changes nothing
}
inline std::tuple<> members(const NoRejection&) {
    return {};
}
inline auto members(const SigmaRejection& o) {
    const auto& [low, high, iterations] = o;
    return std::tie(low, high, iterations);
}
inline auto members(const PairRejection& o) {
    const auto& [sigmas] = o;
    return std::tie(sigmas);
}
inline auto members(const WinsorizedRejection& o) {
    const auto& [low, high, iterations] = o;
    return std::tie(low, high, iterations);
}
inline auto members(const NoiseRejection& o) {
    const auto& [low, high, iterations] = o;
    return std::tie(low, high, iterations);
}
inline auto members(const LineRejection& o) {
    const auto& [low, high, iterations] = o;
    return std::tie(low, high, iterations);
}
inline auto members(const PercentileRejection& o) {
    const auto& [low, high] = o;
    return std::tie(low, high);
}
inline auto members(const MinMaxRejection& o) {
    const auto& [low, high] = o;
    return std::tie(low, high);
}
inline auto members(const EsdRejection& o) {
    const auto& [significance, share, low, high] = o;
    return std::tie(significance, share, low, high);
}
inline auto members(const GrowthOptions& o) {
    const auto& [steps, seed, fall, least] = o;
    return std::tie(steps, seed, fall, least);
}
inline auto members(const JudgeOptions& o) {
    const auto& [growth, star_cores] = o;
    return std::tie(growth, star_cores);
}
inline auto members(const FramingOptions& o) {
    const auto& [frame, region, share, turn, mirror, scale] = o;
    return std::tie(frame, region, share, turn, mirror, scale);
}
inline auto members(const ScaleOptions& o) {
    const auto& [least_stars, least_snr, match_radius, most_stars] = o;
    return std::tie(least_stars, least_snr, match_radius, most_stars);
}
inline auto members(const LevelOptions& o) {
    const auto& [model, scales, sky] = o;
    return std::tie(model, scales, sky);
}
inline auto members(const IntegrateOptions& o) {
    const auto& [rejection, combination, judge, mask_streaks, worth_exponent, ringing_sigmas, tile, real_share,
                 feather] = o;
    return std::tie(rejection, combination, judge, mask_streaks, worth_exponent, ringing_sigmas, real_share,
                    feather); // the size of tiles changes nothing
}

inline auto members(const DrizzleOptions& o) {
    const auto& [scale, drop, shape, restore, smooth] = o;
    return std::tie(scale, drop, shape, restore, smooth);
}

/// A digest under construction.
class Key {
public:
    explicit Key(const std::string& kind) { add(kind, std::string(kNumerics)); }
    template <class... T>
    Key& add(const T&... values) {
        (add_value(digester_, values), ...);
        return *this;
    }
    std::string result() const { return digester_.result(); }

private:
    Digester digester_;
};

} // namespace kasane

// The fidelity measures, each against the simulator's truth.
#pragma once

#include <kasane/base/parallel.hpp>

#include <string>
#include <vector>

namespace kasane::bench {

struct Figure {
    std::string number; ///< as in the goals: "F1"
    std::string what;
    double value = 0;
    std::string unit;
    double goal = 0; ///< at most
};

std::vector<Figure> registration_error(const Context& context); // F1
/// F2 and F16: star lists alone, `cases` pairs a row.
std::vector<Figure> registration_success(const Context& context, int cases);
std::vector<Figure> registration_through_lenses(const Context& context, int cases);
/// F20, as far as positions go: frames of several fields, whole frames against the truth.
std::vector<Figure> panel_positions(const Context& context);
std::vector<Figure> centroid_error(const Context& context);    // F3
std::vector<Figure> width_bias(const Context& context);        // F4
std::vector<Figure> star_flux(const Context& context);         // F5
std::vector<Figure> master_noise(const Context& context);      // F6
std::vector<Figure> outliers_left(const Context& context);     // F7
std::vector<Figure> star_cores(const Context& context);        // F8
std::vector<Figure> illumination_left(const Context& context); // F9
std::vector<Figure> level_mismatch(const Context& context);    // F10
std::vector<Figure> ringing(const Context& context);           // F11
std::vector<Figure> drizzled(const Context& context);          // F12
std::vector<Figure> star_colours(const Context& context);      // F13
std::vector<Figure> calibration_noise(const Context& context); // F14
std::vector<Figure> told_noise(const Context& context);        // F15
std::vector<Figure> gradients_left(const Context& context);    // F17
std::vector<Figure> compared_depth(const Context& context);    // F18
std::vector<Figure> sharpening(const Context& context);        // F19

/// Verdicts of the standard limits on `nights` random nights, beginning with a seed.
std::vector<Figure> verdict_errors(const Context& context, std::uint64_t first_seed, int nights);

/// Roles told from pixels alone, on `heaps` random heaps of 21 files beginning with a seed.
std::vector<Figure> role_errors(const Context& context, std::uint64_t first_seed, int heaps);

} // namespace kasane::bench

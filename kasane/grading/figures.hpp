// The measures of an exposure as numbers with names: what limits are set on, tables show and curves draw.
//
// The room holds, beside this:
//   measure_list.hpp  all measures, one line each
//   measures.hpp      what is measured of every exposure, once
//   frame_noise.hpp   noise of the background, from its level and from its pixels
//   limits.hpp        the rules that drop, and their grammar
//   judge.hpp         keep or drop: limits and people together
//   stack_growth.hpp  how a stack grew, and what more nights would add
//   worth.hpp         what exposures add, and what dropping them does
//   drift.hpp         how the telescope moved through a night
//   obstruction.hpp   parts of the field without their stars; landscape.hpp: what stands before the sky all night
//   small_frame.hpp   the whole frame in small, drawn while it is read; preview.hpp: in eight bits
#pragma once

#include <kasane/grading/measure_list.hpp>
#include <kasane/grading/measures.hpp>

#include <array>
#include <limits>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kasane {

#define KASANE_NAME(name, ...) name,
enum class Measure { KASANE_MEASURES(KASANE_NAME) };
#undef KASANE_NAME
#define KASANE_ONE(...) +1
inline constexpr int kMeasures = 0 KASANE_MEASURES(KASANE_ONE);
#undef KASANE_ONE

/// What measure_list.hpp says of a measure.
struct MeasureInfo {
    const char* name;    ///< as limits and recipes write it
    const char* unit;    ///< empty for plain numbers
    const char* meaning; ///< in a line
    const char* cause;   ///< what is usually behind a bad value; may be empty
    int digits;          ///< after the point, in tables
    int better;          ///< 1: more is better, -1: less is, 0: neither
};

const MeasureInfo& measure_info(Measure measure);
std::optional<Measure> measure_named(std::string_view name);
/// A value as tables show it, without the unit; "-" for what is not known.
std::string value_text(Measure measure, double value);

/// One exposure's values; NaN where not known.
struct Figures {
    std::array<double, kMeasures> value;
    Figures() { value.fill(std::numeric_limits<double>::quiet_NaN()); }
    double& operator[](Measure m) { return value[static_cast<std::size_t>(m)]; }
    double operator[](Measure m) const { return value[static_cast<std::size_t>(m)]; }
};

/// The stars of a ninth of the field.
struct Zone {
    int stars = 0;
    double fwhm = 0, eccentricity = 0, angle = 0; ///< medians; 0 without stars
};

/// How star size depends on the place: a second-degree surface over the field.
struct FieldShape {
    std::array<Zone, 9> zones;                              ///< row by row from the upper left
    double tilt = std::numeric_limits<double>::quiet_NaN(); ///< FWHM across the field, relative to the middle
    double tilt_angle = 0;                                  ///< direction in which stars grow, degrees as displayed
    double curvature = std::numeric_limits<double>::quiet_NaN(); ///< FWHM in the corners, relative to the middle
};

/// Least squares with weights that fall off for outliers; NaN with fewer than 20 fitted stars.
FieldShape field_shape(const ExposureMeasures& measures);
/// The same of any stars of an image of that size.
FieldShape field_shape(const std::vector<Star>& stars, int width, int height);

/// What one exposure says of itself. `part`: only what lies inside this rectangle of the view's grid counts; empty: the
/// whole frame. `arcsec`: of a pixel of the grid, 0 unknown. What compares exposures stays unknown.
Figures describe_frame(const ExposureMeasures& measures, double seconds, double arcsec, const Region& part = {});

/// Edge to edge difference of the background's plane, ADU, in the direction `angle` (degrees as displayed) in which it
/// grows.
struct Slope {
    double size = 0, angle = 0;
};
Slope background_slope(const Background& mesh);

} // namespace kasane

// Constants and conversions that several modules share.
#pragma once

#include <cmath>
#include <limits>
#include <numbers>

namespace kasane {

inline constexpr double kPi = std::numbers::pi;
inline constexpr float kNoData = std::numeric_limits<float>::quiet_NaN();
/// FWHM of a Gaussian of standard deviation 1: 2 sqrt(2 ln 2).
inline constexpr double kFwhmPerSigma = 2.3548200450309493;
/// Standard deviation of a Gaussian whose median absolute deviation is 1: 1 / Phi^-1(3/4).
inline constexpr double kSigmaPerMad = 1.4826022185056018;

/// Arc seconds that a micrometre spans a millimetre of focal length away.
inline constexpr double kArcsecPerMicrometre = 206.26480624709636;

constexpr double degrees(double radians) {
    return radians * 180.0 / kPi;
}
constexpr double radians(double degrees_) {
    return degrees_ * kPi / 180.0;
}

} // namespace kasane

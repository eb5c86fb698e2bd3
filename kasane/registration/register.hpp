// From two star lists to the transform between their frames.
//
// Patterns are triangles of stars, described by their side ratios, which do not change under translation, rotation,
// mirroring and scale (E. Groth, AJ 91, 1986; F. Valdes et al., PASP 107, 1995). Every pair of like triangles proposes
// a transform; the one that most stars agree to is refined to a robust weighted affine fit (bisquare weights: A. Beaton
// and J. Tukey, Technometrics 16, 1974).
//
// The room holds, beside this:
//   star_index.hpp  nearest stars by position, quickly
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/stars/detection.hpp>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct RegistrationOptions {
    int pattern_stars = 45; ///< the brightest of each list that form patterns; doubled twice if no solution is found
    int neighbours = 8;     ///< of each, within the pattern stars
    double ratio_tolerance = 0.008; ///< between side ratios of like triangles
    double match_radius = 3.0;      ///< pixels, when a proposal is tested
    int least_matches = 6;
    int least_for_shift = 4;   ///< where a shift, or a half turn and a shift, is all that lies between the frames
    double least_share = 0.15; ///< of the stars both frames should have in common
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

struct Registration {
    Transform to_frame; ///< from reference pixels to the frame's pixels
    int matched = 0;    ///< stars in the fit
    double rms = 0;     ///< residual distance of the matched stars, root mean square over both axes together, pixels
    double share = 0;   ///< of the common stars that matched
};

/// What stands in the way of a registration.
enum class Hindrance : std::uint8_t {
    none,
    not_tried,     ///< the frame was not measured, or there is no reference
    too_few_stars, ///< in one of the lists
    no_agreement,  ///< no transform is supported by enough stars
};

/// A registration, or what stands in its way, with words for a person.
struct Outcome {
    std::optional<Registration> result;
    Hindrance hindrance = Hindrance::not_tried; ///< none where there is a result
    std::string text;                           ///< empty where there is a result

    static Outcome of(const Registration& found) { return {found, Hindrance::none, {}}; }
    explicit operator bool() const { return result.has_value(); }
    const Registration* operator->() const { return &*result; }
    const Registration& operator*() const { return *result; }
};

/// Registers `frame` onto `reference` (star lists, brightest first).
Outcome register_stars(const std::vector<Star>& reference, const std::vector<Star>& frame,
                       const RegistrationOptions& options = {});

/// The reference of a set of frames: the one with the most stars for their width (count / FWHM^2). Index into `stars`.
std::size_t choose_reference(const std::vector<const std::vector<Star>*>& stars, const std::vector<double>& fwhm);

} // namespace kasane

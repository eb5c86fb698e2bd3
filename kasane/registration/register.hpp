// From two star lists to the transform between their frames.
//
// Seeds (patterns.hpp) are grown to all pairs (growth.hpp), a model is fitted to them or chosen (fit.hpp), and what
// comes of it counts only if chance does not explain it (chance.hpp) and it holds wherever both lists have stars.
//
// The room holds, beside this:
//   patterns.hpp    likely similarities, from triangles or pairs of stars
//   growth.hpp      from a few pairs to all, through any distortion
//   model.hpp       what may lie between two exposures, and its derivatives
//   fit.hpp         the transform of a model, and the choice of the model
//   reference.hpp   which frame leads
//   correlation.hpp without stars: where the pictures agree
//   align.hpp       frames of many nights and rigs onto one reference
//   rig.hpp         the lens of a rig, from all its frames
//   adjustment.hpp  all frames of a rig at once; its inner loop: products_kernel.hpp
//   pose.hpp        where a camera points
//   mosaic.hpp      frames of several fields onto one grid
//   panels.hpp      which frames show the same field
//   sightings.hpp   the same stars in many frames
//   unseen.hpp      stars that a solution has not seen, as its judges
//   comet.hpp       the path of a comet among the stars
//   chance.hpp      how likely a match is nothing but chance
//   agreement.hpp   how two lists agree under a transform
//   star_pair.hpp   two star lists and pairs of their stars
//   star_index.hpp  nearest stars by position, quickly
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/registration/fit.hpp>
#include <kasane/stars/detection.hpp>

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// What a star list was measured on.
struct StarGrid {
    int width = 0, height = 0;        ///< pixels; 0: as far as the stars reach
    std::shared_ptr<const Lens> lens; ///< null: not known
};

struct RegistrationOptions {
    int pattern_stars = 45; ///< the brightest of each list that form patterns; more are tried if no solution is found
    int neighbours = 8;     ///< of each, within the pattern stars
    double ratio_tolerance = 0.008; ///< between side ratios of like triangles; a wider one is tried afterwards
    double match_radius = 3.0;      ///< pixels, when a proposal is tested
    int least_matches = 4;          ///< three do between frames of one scale
    double least_share = 0.15;      ///< of the stars both frames should have in common
    double false_alarms =
        1e-5; ///< registrations by chance, expected in one call with stars that have nothing in common
    StarGrid reference, frame;
    bool thorough = true;       ///< false: where the patterns of the brightest say nothing, no others are tried
    std::optional<Model> model; ///< nothing: affine, and projective or with a lens where the stars ask for it
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

struct Registration {
    Transform to_frame;  ///< from reference pixels to the frame's pixels
    int matched = 0;     ///< stars in the fit
    double rms = 0;      ///< residual distance of the matched stars, root mean square over both axes together, pixels
    double share = 0;    ///< of the common stars that matched
    double expected = 0; ///< what `rms` should be by the stars' own errors, pixels; 0: not known
    /// Of neighbouring stars' residuals, from -1 to 1: about 0 where they are noise, towards 1 where the model leaves
    /// something over.
    double order = 0;
    Model model;
    std::vector<StarMatch> matches; ///< by the frame's stars
    std::string way;                ///< how it was found where not at once against the reference, in words
};

/// What stands in the way of a registration.
enum class Hindrance : std::uint8_t {
    none,
    not_tried,     ///< the frame was not measured, or there is no reference
    too_few_stars, ///< in one of the lists
    no_agreement,  ///< no transform is supported by enough stars
    in_part_only,  ///< what agrees in one part of the field does not in another
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

/// The same where something else has told about where the frame lies, to within `reach` pixels: pairs are looked for
/// there alone, so that few and weak stars do.
Outcome refine_on_stars(const std::vector<Star>& reference, const std::vector<Star>& frame, const Transform& about,
                        double reach, const RegistrationOptions& options = {});

} // namespace kasane

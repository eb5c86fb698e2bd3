// The recipe: what a person decides about a project, in kasane.toml.
//
// The room holds, beside this:
//   keys.hpp      all keys, and how their values are read
//   canvas_keys.hpp, integration_keys.hpp, finish_keys.hpp  those of the sections of these names
//   toml.hpp      TOML, and refusals with their place
//   edit.hpp      changes that leave the rest as a person wrote it
//   verdicts.hpp  what a person decided about single exposures
#pragma once

#include <kasane/calibration/frame_view.hpp>
#include <kasane/combination/rejection.hpp>
#include <kasane/finishing/finish_options.hpp>
#include <kasane/frames/nights.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/geometry/framing.hpp>
#include <kasane/grading/limits.hpp>
#include <kasane/integration/composite_kind.hpp>
#include <kasane/integration/drizzle_options.hpp>
#include <kasane/normalization/level_model.hpp>
#include <kasane/pairing/pairing.hpp>
#include <kasane/registration/model.hpp>

#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// How the mosaics of colour sensors become planes.
struct ColourRecipe {
    ColourMethod method = ColourMethod::adaptive;
    std::map<std::string, ColourMethod> by_filter; ///< exceptions, by the folded name of the filter
    ColourMethod of(const std::string& filter) const;
};

/// What calibration does beside masters.
struct CalibrationRecipe {
    enum class Lone { automatic, on, off } lone_pixels = Lone::automatic; ///< automatic: where no dark fits
    bool equalise_rows = false, equalise_columns = false;
    bool spills = true;
    std::vector<Region> defects;          ///< marked by hand, in sensor pixels
    std::vector<std::string> defect_maps; ///< images whose non-zero pixels are defects, relative to the project
    bool fit_darks = true;                ///< the factor of scaled darks is measured in each light
    std::string library;                  ///< folder for masters, relative to the project; empty: with the results
};

/// How exposures are measured and judged.
struct GradingRecipe {
    std::vector<std::string> limits = standard_limits(); ///< as parse_limit reads them
    Region part;                                         ///< of the frame that measures are taken in; empty: all
    DetectOptions detect;                                ///< threshold, least, most and area count
};

/// How lights are brought onto their reference.
struct RegistrationRecipe {
    std::optional<Model> model; ///< of all; nothing: the one that the stars ask for
    std::string reference;      ///< path or glob of the light that gives the grid; empty: chosen
    Region part;                ///< of the reference's grid that its stars are taken from; empty: all
    std::string onto;           ///< an image whose grid all lights come onto, relative to the project; empty: none
};

/// How frames are brought to one level.
struct NormalizationRecipe {
    LevelModel level = LevelModel::local;
    std::map<std::string, LevelModel> by_filter; ///< exceptions, by the folded name of the filter
    std::map<int, LevelModel> by_colour;         ///< of colour sensors: 0 red, 1 green, 2 blue; before those by filter
    Region sky; ///< of the reference's grid: the only part that offsets are told from; empty: all
    LevelModel of(const std::string& filter, int colour) const;
};

/// What the master lights of a target show.
struct CanvasRecipe {
    FramingOptions framing;
    bool frame_given = false; ///< else a mosaic shows everything
    bool north_up = false;    ///< turned so that north is up, where headers tell it; the turn of `framing` is not used
};

/// Whether master lights are drizzled.
struct DrizzleRecipe {
    bool wanted = false;
    bool automatic = false;   ///< where it gains, with the scale that does best
    bool own_drop = false;    ///< the size of drops is given
    bool own_restore = false; ///< whether to restore is given; otherwise as is best for the lights
    DrizzleOptions options;
};

/// Where a comet is on a light, as a hand points at it; without a pixel (NaN), as its header tells.
struct CometMark {
    std::string file;    ///< relative to the project
    double x = 0, y = 0; ///< pixels of the turned frame, the centre of the upper left one at (0, 0)
    bool by_header() const { return x != x; }
    bool operator==(const CometMark&) const = default;
};

/// How frames become one image.
struct IntegrationRecipe {
    std::optional<Rejection> rejection;                        ///< nothing: the one that does best on the stack
    std::map<std::string, std::optional<Rejection>> by_filter; ///< exceptions, by the folded name of the filter
    Combination combination = Combination::mean;
    std::optional<double> feather; ///< pixels over which lights fade out towards their edges; nothing: by their size
    int grow = 2;                  ///< pixels by which what is rejected grows at most
    bool star_cores = true, streaks = true;
    std::map<Measure, double> weights{{Measure::worth, 1}}; ///< exponents; none: all weigh alike
    std::vector<CompositeKind> also{};                      ///< made of the master lights of a target
    std::optional<Rejection> rejection_of(const std::string& filter) const;
};

/// An empty recipe is a good one: every key has a default.
struct Recipe {
    FrameRules rules;
    NightOptions nights;
    PairingOptions pairing;
    bool rigs_together = false; ///< lights of one target and filter become one master light, whatever took them
    ColourRecipe colour;
    CalibrationRecipe calibration;
    GradingRecipe grading;
    RegistrationRecipe registration;
    NormalizationRecipe normalization;
    CanvasRecipe canvas;
    IntegrationRecipe integration;
    DrizzleRecipe drizzle;
    std::vector<CometMark> comet;     ///< none: there is none
    FinishOptions finish;             ///< what is done to master lights once they are made
    bool finish_after_run = false;    ///< at the end of every run
    std::vector<std::string> folders; ///< beside the project's own, relative to it: libraries of darks and masters
    std::string output;               ///< relative to the project; empty: "kasane"
    std::uint64_t cache_bytes = 20ull << 30; ///< limit of the cache of decoded pixels
    std::vector<std::string> hints;          ///< keys that are still read and now have other names
    bool look_at_pixels = true; ///< to find the roles of files that say nothing, and doubtful lights and flats
};

/// The file of a project folder: "kasane.toml".
std::filesystem::path recipe_file(const std::filesystem::path& folder);

/// The recipe of a project folder; the empty one if there is no file. Throws UsageError, with line and column, for text
/// that is not TOML, unknown keys (naming the nearest right one), wrong types and impossible values; InputError if the
/// file cannot be read.
Recipe read_recipe(const std::filesystem::path& folder);

/// The same from text; `file` is named in errors.
Recipe parse_recipe(const std::string& text, const std::filesystem::path& file = "kasane.toml");

/// A recipe that says nothing yet: every key with its default, commented out and explained.
std::string recipe_template();

/// The reference of all keys, in Markdown: what docs/recipe.md holds.
std::string recipe_reference();

} // namespace kasane

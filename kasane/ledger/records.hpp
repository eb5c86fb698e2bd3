// What a run has to tell, as plain records that can be stored and printed.
#pragma once

#include <kasane/base/provenance.hpp>
#include <kasane/grading/preview.hpp>
#include <kasane/pairing/findings.hpp>
#include <kasane/pairing/pairing.hpp>

#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

namespace kasane {

/// One light, as the run saw it.
struct FrameReport {
    std::string path;
    std::string identity; ///< of its content: the path may change
    std::string night;
    bool used = false;
    bool unread = false; ///< its file could not be read, which may pass
    std::string reason;  ///< why it is not used
    double seconds = 0;
    int stars = 0;
    double fwhm = 0; ///< pixels
    double eccentricity = 0;
    double background = 0;                      ///< ADU
    double noise = 0;                           ///< ADU
    double scale = 0;                           ///< factor to the stack's level
    double scale_error = 0;                     ///< of it, relative; 0: by the exposure times
    double worth = 0;                           ///< 0..1; 0 where its seconds are not known
    double transparency = 0;                    ///< 0..1 of the stack's best; 0: not measured
    bool by_hand = false;                       ///< a person decided
    double weight = 0;                          ///< in the mean, sum 1
    int matched = 0;                            ///< stars in the registration
    double rms = 0;                             ///< of the registration, pixels
    double expected_rms = 0;                    ///< the same by the stars' own errors alone; 0: not known
    std::string registered_by;                  ///< the model
    std::string registered_how;                 ///< where not at once against the reference
    double rotation = 0;                        ///< against the reference, degrees
    double shift_x = 0, shift_y = 0;            ///< of the frame's centre, pixels
    std::string dark, flat;                     ///< masters used
    std::string dark_note;                      ///< how much of it, where that was measured
    int own_defects = 0;                        ///< pixels that were replaced in this light alone
    double rejected_low = 0, rejected_high = 0; ///< shares of its samples
    double under_streaks = 0;                   ///< the same, left out under trails that were found
    int length = 0;                             ///< which of the stack's lengths, 0 the longest
    std::string panel;                          ///< that it shows; empty: its stack has one field
};

/// What one rejection would do to a stack, tried on a part of its pixels (RejectionTrial).
struct RejectionReport {
    std::string method, text;
    double loss = 0, left = 0, left_low = 0, cores = 0;
    bool chosen = false;
};

/// How the lights of a stack sample their stars, and what drizzling them does or would do (DrizzlePrediction).
struct SamplingReport {
    std::string text;       ///< empty: nothing is to be said
    bool drizzled = false;  ///< it was done; otherwise it would be so
    double fwhm = 0;        ///< of the lights, pixels; 0: not known
    double phase_cells = 0; ///< of 16 quarter-pixel cells those that lights' pixels fill
    double scale = 0, drop = 0;
    bool restored = false;                           ///< what pixels and drops blur is taken out again
    double drizzled_fwhm = 0, interpolated_fwhm = 0; ///< pixels of the canvas
    double gain = 0, cost = 0, holes = 0;            ///< shares
    std::string picture;                             ///< of the phases, relative to the output folder
};

/// One of a stack's lengths: lights that are saturated at about the same brightness.
struct LengthReport {
    std::vector<double> seconds; ///< the exposure times among them, longest first; 0: not known
    int lights = 0;
    double share = 0;   ///< of the master light's pixels that it makes
    double matched = 0; ///< error of its scale against the next longer one, around what that saturates; 0: not told
};

/// Pixels that are saturated in all lengths.
struct BurntReport {
    double pixels = 0;                       ///< of the master light
    int x = 0, y = 0, width = 0, height = 0; ///< around the largest patch of them, pixels of the master light
    double largest = 0;                      ///< pixels in it
};

/// Where a comet was on a light.
struct CometPlaceReport {
    std::string file;
    double x = 0, y = 0;         ///< by its path, pixels of the turned frame
    double off_x = 0, off_y = 0; ///< of what the light itself shows, beside the path; pixels of the reference
    bool found = false;          ///< the light shows it
    double smear = 0;            ///< by which it moved during the exposure, pixels of the reference
};

/// A comet among the stars of a stack.
struct CometReport {
    std::string file, preview, both_file, both_preview; ///< relative to the output folder; empty: there is no comet
    std::string text;                                   ///< its path, in words
    double noise = 0;                                   ///< of the master light that follows it, ADU
    double rms = 0;                                     ///< of its places beside the path, pixels of the reference
    double rate = 0, angle = 0; ///< pixels an hour; degrees counter-clockwise as displayed, in the middle of the time
    double smear = 0;           ///< the most during a light, pixels
    std::vector<CometPlaceReport> places;
    std::vector<std::string> unread; ///< files that its path lacks because they could not be read, which may pass
};

/// What weights make of a stack.
struct WeightCost {
    std::string weights; ///< as the recipe writes them
    double noise = 0;    ///< of the background, ADU
    double fwhm = 0;     ///< pixels; 0: not known
};

/// A warning that was found while a stack was made, and holds as long as the result does.
struct StackDoubt {
    std::string code;
    std::vector<std::string> files;
    std::string text, remedy;
};

/// One field of a mosaic.
struct PanelReport {
    std::string name;
    double x = 0, y = 0; ///< its middle, pixels of the reference
    int used = 0, dropped = 0;
    double seconds = 0, effective = 0; ///< of the lights used; the same, each times its worth among those of its panel
};

/// The master light that another one took the place of, to look at beside it.
struct FormerReport {
    std::string picture; ///< relative to the output folder, beside the ledger; empty: there was none on the same grid
    int used = 0;
    double seconds = 0; ///< of the frames used
};

struct StackReport {
    std::string name, target, filter, sensor;
    std::string file, preview; ///< relative to the output folder; empty if no master light was made
    std::string reference;     ///< registration reference
    std::string reference_fingerprint;
    std::string reference_reason;        ///< why it leads
    std::vector<std::string> runners_up; ///< what else could have, and what speaks for it
    std::vector<std::string> optics;     ///< what lies between the frames of each rig, and what that gained
    std::string canvas;                  ///< what it shows, in words; empty: what the reference does, as it does
    std::string world;                   ///< where its position on the sky comes from; empty: it has none
    std::vector<FrameReport> frames;
    int used = 0, dropped = 0;
    int unread = 0;               ///< of the dropped: could not be read, which may pass
    double seconds_total = 0;     ///< of the frames used
    double seconds_effective = 0; ///< the same, each times its worth
    double noise = 0;             ///< of the background, ADU, as it were without resampling; green of three planes
    double lights_fwhm = 0;       ///< of the stars in the lights, pixels of the master light; 0: not known
    double pixel_noise = 0;       ///< by how much drizzled pixels scatter, ADU; 0: not drizzled
    SamplingReport sampling;
    std::vector<LengthReport> lengths; ///< longest first
    std::vector<PanelReport> panels;   ///< in the order in which one reads; empty: one field
    BurntReport burnt;
    CometReport comet;
    double area_noise = 0;       ///< of a pixel as large areas tell it: `noise`, more where colours were interpolated
    double expected_noise = 0;   ///< the same as the noise of its frames lets expect
    int noise_from_level = 0;    ///< frames used whose noise is told by their level, not by their pixels
    double flat_noise_share = 0; ///< by how much the noise of flats raises that of the frames, at most; relative
    std::string colour_method;   ///< how a mosaic became planes; empty for others
    std::vector<double> colour_noise;   ///< by plane, where there are three
    std::vector<double> channel_scales; ///< factors that make the average star white, green 1; not applied
    std::string levels;                 ///< how the frames were brought to one level, in words
    std::string defects;                ///< of the sensor, in words
    std::string noise_model;            ///< where the electrons per ADU come from
    double electrons_per_adu = 0;
    double passed_over = 0; ///< share of samples that lay on defects and for which other frames stood in
    double fwhm = 0;        ///< pixels
    double eccentricity = 0;
    double rejected_low = 0, rejected_high = 0;    ///< shares of all samples
    double under_streaks = 0;                      ///< the same, left out under trails that were found
    std::string combination;                       ///< how samples became one, and why so
    std::vector<RejectionReport> rejection_trials; ///< where it was chosen
    double core_samples = 0; ///< share of samples where the image has structure: the cores of stars
    double core_rejected_at_first = 0, core_rejected = 0, rejected_elsewhere = 0; ///< shares of those, and of the rest
    std::string weights;                                                          ///< as the recipe writes them
    std::vector<WeightCost> weight_costs;                                         ///< what those and others make
    std::string rejection_picture;                                                ///< relative to the output folder
    double time = 0;                                                              ///< seconds of work
    std::vector<StackDoubt> doubts;
    Provenance made;      ///< the steps that made it
    std::string failure;  ///< why no master light could be made, beside what its frames tell
    std::string identity; ///< what its name stands for
    FormerReport former;
    double zero_point = 0; ///< magnitude of a star of 1 ADU in the master light, by its lights' headers; 0: not known
    bool reused = false;   ///< nothing had changed
};

/// One image or plane in a composite.
struct CompositePartReport {
    std::string name;
    double factor = 1; ///< of what lies above its background
    double weight = 0; ///< sum 1
};

/// An image that was made of several master lights.
struct CompositeReport {
    std::string name, kind, file, preview; ///< files relative to the output folder
    std::string text;                      ///< how its parts were brought together
    std::vector<CompositePartReport> parts;
    double noise = 0;         ///< of the background, ADU, by that of its parts
    double seconds_total = 0; ///< of all frames of its parts
    double time = 0;
    bool reused = false;
};

struct MasterReport {
    std::string name, role, file;
    int frames = 0;
    double level = 0;                  ///< ADU
    std::vector<double> colour_levels; ///< the same by colour, where frames have three
    double frame_noise = 0;            ///< of a single frame; ADU, flats: relative
    double noise = 0;                  ///< of the master
    double rejected_share = 0;
    double level_spread = 0;         ///< of the frames' levels; ADU, flats: relative
    double gradient = 0;             ///< from edge to edge; unit of the pixels
    int star_pixels = 0;             ///< of a sky flat, patched
    std::string preview;             ///< relative to the output folder
    std::string combination;         ///< how frames were combined, and why so
    double electrons_per_adu = 0;    ///< flats: by photon transfer; 0: not measured
    double read_noise = 0;           ///< the same, electrons
    double saturation = 0;           ///< the same, ADU
    std::vector<std::string> doubts; ///< what may hurt, in words
    std::string offset;              ///< flats: what removed their offset
    Provenance made;                 ///< the steps that made it; none of one that was made elsewhere
    double time = 0;
    bool reused = false;
    std::vector<std::string> members;
    std::vector<std::pair<std::string, std::string>> left_out; ///< members that could not be used, and why
    std::vector<std::string> unread; ///< files it lacks because they could not be read, which may pass
};

/// A light as it came from the camera, the whole of it in small.
struct DrawnLight {
    std::string key; ///< of its measures
    FramePicture picture;
};

struct RunReport {
    std::string folder, output;
    std::vector<MasterReport> masters;
    std::vector<StackReport> stacks;
    std::vector<CompositeReport> composites;
    std::vector<Finding> findings;
    double time = 0;
    /// The best lights of the stacks that were made, drawn while their pixels were read for that: not stored.
    std::vector<DrawnLight> as_they_came;
    /// Something was set aside or found wanting.
    bool clean() const;
};

/// JSON as text; bytes that are not UTF-8 (headers and file names may hold any) become replacement characters. `indent`
/// < 0: one line.
std::string json_text(const nlohmann::json& json, int indent = -1);

} // namespace kasane

// What an exposure is: one record, whatever the keywords of its header, and for each value how it is known.
//
// The room holds, beside this:
//   fields.hpp        what the fields are called, by Kasane and in headers
//   field_values.hpp  their values as text
//   look.hpp          a look at the pixels, for what the header does not say
//   panel_names.hpp   what people call the panels of a mosaic
//   nights.hpp        times, and the nights they belong to
//   rules.hpp         what a person says about the files
//   words.hpp         what names say: roles, filters and values
#pragma once

#include <kasane/io/reader.hpp>
#include <kasane/io/world_coordinates.hpp>

#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

enum class Role { unknown, light, dark, flat, bias, dark_flat };

/// "light", "dark flat", ...
std::string_view role_name(Role role);

/// The values of the record that a header, a path or a recipe can give.
enum class Field {
    role,
    master,
    target,
    filter,
    seconds,
    gain,
    offset,
    temperature,
    temperature_set,
    binning,
    cfa,
    start,
    start_local,
    night,
    camera,
    telescope,
    focal_length,
    pixel_size,
    electrons_per_adu,
    saturation,
    black_level,
    right_ascension,
    declination,
    latitude,
    longitude,
    orientation,
    pier_side,
    rotator,
    turn,
    count_ ///< how many there are
};
inline constexpr int kFields = static_cast<int>(Field::count_);

/// The name of a field, as recipes and JSON write it: "focal_length".
std::string_view field_name(Field field);
std::optional<Field> field_named(std::string_view name);
/// Unit and meaning in a few words: "[mm] focal length".
std::string_view field_meaning(Field field);

/// How a value is known, in order of trust from `recipe` down; `assumed` is the recipe's stand-in for what is missing.
enum class Origin { none, assumed, pixels, path, exif, header, recipe };
std::string_view origin_name(Origin origin);

struct Source {
    Origin origin = Origin::none;
    std::string detail; ///< "IMAGETYP = Light", "folder name darks"
    std::string text() const;
};

/// Everything later steps want to know about a file. Absent values are empty.
struct Exposure {
    std::string path; ///< relative to the project folder; for files of other folders, as the recipe leads to them
    std::string fingerprint; ///< of its content (base/hash.hpp)
    std::string identity;    ///< what derived facts are keyed by: the fingerprint, and a digest of the whole content
                             ///< where a file was edited between the fingerprint's samples

    Format format = Format::fits;
    bool linear = true;
    int width = 0, height = 0, planes = 1; ///< as the reader gives them, after `turn`
    int bits = 0;                          ///< as FITS BITPIX

    Role role = Role::unknown;
    double role_confidence = 1;            ///< 0..1; below 1 where the pixels had to tell
    bool is_master = false;                ///< a combination of many frames, made by Kasane or elsewhere
    bool made_by_kasane = false;           ///< a result of this program: never an input light
    std::string inputs;                    ///< of such a result: digest of the frames it was made of
    std::vector<std::string> input_frames; ///< the same, by fingerprint

    std::optional<double> seconds;
    std::string start;          ///< UTC, ISO 8601
    std::string start_local;    ///< local time by the camera's clock, ISO 8601
    std::optional<double> time; ///< of the start, seconds since 1970: UTC, else local (see assign_nights)
    std::string night;          ///< local date on which the night began, YYYY-MM-DD, or the recipe's name for it
    std::optional<double> gain; ///< camera setting, unit-less; ISO for cameras that have it
    bool gain_is_iso = false;
    std::optional<double> offset;                       ///< camera setting, unit-less
    std::optional<double> electrons_per_adu;            ///< conversion gain
    std::optional<double> temperature, temperature_set; ///< degrees Celsius
    int binning_x = 1, binning_y = 1;
    std::string filter; ///< folded: see fold_filter
    std::string cfa;    ///< colours of the first 2 x 2 (or 6 x 6) pixels; empty for mono
    std::string camera, telescope, target;
    std::optional<double> focal_length_mm, pixel_um;
    std::optional<double> saturation, black_level;                           ///< ADU
    std::optional<double> right_ascension, declination, latitude, longitude; ///< degrees, east and north positive
    int orientation = 1; ///< as EXIF numbers it; recorded, never applied
    std::string pier_side;
    std::optional<double> rotator; ///< degrees
    int turn = 0;                  ///< degrees clockwise by which the recipe has its pixels turned

    std::shared_ptr<const WorldCoordinates>
        world; ///< of the picture as the file holds it, rows from above; may be null

    std::vector<std::pair<Field, Source>> sources; ///< how each value is known
    std::vector<std::string> problems;             ///< values that cannot be: "EXPTIME = -5 is no exposure time"

    /// Sensor temperature, measured or else as set.
    std::optional<double> sensor_temperature() const { return temperature ? temperature : temperature_set; }
    /// Nothing keeps the sensor at one temperature.
    bool uncooled() const { return temperature && !temperature_set; }
    Source source(Field field) const;
};

/// Reads `text` as the value of a field. Returns what is wrong with it, or nothing. Absurd values change nothing.
std::string set_value(Exposure& exposure, Field field, const std::string& text, Source source);
/// A value as text, as set_value reads it; empty where it is not known.
std::string value_text(const Exposure& exposure, Field field);

/// Fills a record from what a file says of itself and from its path. The role comes from the header, else from folder
/// names, else from the file name; other values that the header lacks are looked for in the path. `night` is left empty
/// (see nights.hpp).
Exposure describe_exposure(const std::string& path, const FrameSummary& summary);

/// Looks for the filter in the path, where nothing surer says it; to be called again whenever the role has become
/// known. A longer filter word anywhere in the path beats lone letters; of equals, what stands nearer to the file wins.
/// Only lights and flats have filters, and a colour sensor's none from a lone letter.
void settle_filter(Exposure& exposure);

/// Arc seconds along the side of `cell` pixels of an exposure; 0 where pixel size or focal length is not known.
double arcsec_per_pixel(const Exposure& exposure, int cell = 1);

/// Pixels that may be calibrated with one another: camera, size, binning, CFA, as one line of text.
std::string sensor_key(const Exposure& exposure);

} // namespace kasane

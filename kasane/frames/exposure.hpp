// What an exposure is: one record, whatever the keywords of its header.
#pragma once

#include <kasane/io/header.hpp>

#include <optional>
#include <string>

namespace kasane {

enum class Role { unknown, light, dark, flat, bias, dark_flat };

/// "light", "dark flat", ...
std::string_view role_name(Role role);

/// Everything later steps want to know about a file. Absent values are empty.
struct Exposure {
    std::string path;        ///< relative to the project folder
    std::string fingerprint; ///< of its content (base/hash.hpp)
    std::string identity; ///< fingerprint and time of change: what derived facts are keyed by, so that an edit between
                          ///< the fingerprint's samples is seen too

    Role role = Role::unknown;
    std::string role_source;     ///< how the role is known: "header IMAGETYP = Light", "folder name darks", ...
    bool is_master = false;      ///< a combination of many frames, made by Kasane or elsewhere
    bool made_by_kasane = false; ///< a result of this program: never an input light

    int width = 0, height = 0, planes = 1;
    int bits = 0; ///< as FITS BITPIX
    std::optional<double> seconds;
    std::string start;                       ///< UTC, ISO 8601, as far as the header gives it
    std::string night;                       ///< local date on which the night began, YYYY-MM-DD; empty when unknown
    std::optional<double> gain, offset;      ///< camera settings, unit-less
    std::optional<double> electrons_per_adu; ///< conversion gain
    std::optional<double> temperature, temperature_set; ///< degrees Celsius
    int binning_x = 1, binning_y = 1;
    std::string filter; ///< folded: see fold_filter
    std::string cfa;    ///< colours of the first 2 x 2 pixels; empty for mono
    std::string camera, telescope, target;
    std::optional<double> focal_length_mm, pixel_um, longitude; ///< longitude east positive, degrees

    /// Sensor temperature, measured or else as set.
    std::optional<double> sensor_temperature() const { return temperature ? temperature : temperature_set; }
};

/// Fills a record from a header and a path. The role comes from the header, else from folder names, else from the file
/// name. `night` is left empty (see assign_nights).
Exposure describe_exposure(const std::string& path, const Header& header, int width, int height, int planes, int bits);

/// Filters by one name: case, spaces and common synonyms folded ("Luminance" -> "L", "H-alpha" -> "Ha"). Unknown names
/// keep their text.
std::string fold_filter(const std::string& name);

/// The night of each exposure: noon to noon of local mean time by the site's longitude (its own, else that of the other
/// exposures, else Greenwich).
void assign_nights(std::vector<Exposure>& exposures);

/// Pixels that may be calibrated with one another: camera, size, binning, CFA, as one line of text.
std::string sensor_key(const Exposure& exposure);

} // namespace kasane

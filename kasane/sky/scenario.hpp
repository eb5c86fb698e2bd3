// Whole projects of simulated files: which exposures were taken, written as FITS into a folder per night, and the truth
// about them beside.
//
// The room holds, beside this:
//   scene.hpp       what is in the sky
//   instrument.hpp  the camera and the glass in front of it
//   render.hpp      one exposure of the scene
//   star_views.hpp  two star lists of one sky, without pixels
//   random.hpp      random numbers that are the same everywhere
//   truth.hpp       what tests may know
//   variants.hpp    small projects true to what people bring
//   dng.hpp         a camera raw file
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/sky/render.hpp>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane::sky {

/// One file to be written.
struct Shot {
    enum class Role { light, dark, flat, bias };
    Role role = Role::light;
    std::string path;   ///< relative to the project folder; ".dng" makes a camera raw file, everything else FITS
    std::string filter; ///< lights and flats
    std::string target; ///< as its header calls it; empty: as the scenario does
    double seconds = 0;
    double temperature = -10;  ///< degrees Celsius
    std::string start;         ///< UTC, ISO 8601
    int dust = 0;              ///< which set of dust shadows (Scenario::dust) lies in the light path
    double flat_electrons = 0; ///< flats: level in the centre
    Conditions conditions;     ///< lights, and flats under the sky

    bool under_sky = false;                             ///< a flat that is a picture of the twilight, with its stars
    bool capped = false;                                ///< a light taken with the cap on
    bool turned = false;                                ///< written turned clockwise by 90 degrees
    bool silent = false;                                ///< its header says nothing
    std::vector<std::pair<std::string, double>> claims; ///< header numbers that are not as they should be
    SkyPoint world_error;                               ///< by which the header's position on the sky is wrong, degrees
    std::string mistake; ///< the code of the finding that this file deserves; empty: none
};

struct Scenario {
    std::string target = "Paper Lantern Nebula";
    std::uint64_t seed = 20;
    SceneOptions scene;
    Instrument instrument;
    std::vector<std::vector<DustShadow>> dust = {{}};
    std::vector<Shot> shots;
    int iso = 0;          ///< camera raw files say it instead of a gain
    double time_zone = 1; ///< hours, of the camera's clock in camera raw files
    struct Copy {
        std::string from, to; ///< relative to the project
        double share = 1;     ///< of the bytes
        std::string mistake;
    };
    std::vector<Copy> copies;                               ///< made after all shots
    std::vector<std::pair<std::string, std::string>> texts; ///< files of text: path, relative to the project; content
    std::optional<SkyPoint> solved; ///< where the middle of the scene lies on the sky: lights' headers then tell it
};

/// Three nights on the Paper Lantern Nebula in L, R, G, B and Ha with everything that happens to people: a cloud,
/// twilight, wind, a roof, a meridian flip, trails, cosmic rays, moved dust. About 900 x 600 pixels.
Scenario demo_scenario();

/// What scenario.cpp and the scenarios share: the evenings of 2031-03-12 and after, noon to noon, as ISO 8601.
std::string evening_time(int day, double seconds_after_noon);

/// Electrons per second and pixel of the sky through a filter.
double filter_sky(const std::string& filter);

/// `count` calibration frames of a role: FOLDER/STEM_NNN.fits.
struct CalibrationSeries {
    Shot::Role role = Shot::Role::bias;
    std::string folder, stem;
    int count = 0;
    double seconds = 0;
    int day = 12;
    double clock = 0; ///< seconds after noon
    std::string filter = {};
    int dust = 0;
    double level = 0; ///< flats: electrons in the centre
    double temperature = -10;
};
void add_calibration(Scenario& scenario, const CalibrationSeries& series);

/// One night, one filter, lights with bias, darks and flats, and none of the above unless asked for: for tests and
/// measurements.
struct PlainOptions {
    int width = 640, height = 480;
    int lights = 12;
    int calibration = 16; ///< frames of each kind; 0: none
    std::uint64_t seed = 5;
    int stars = 250;
    double seconds = 120;
    double nebula = 1.2, galaxy = 0;
    double dither = 12;                 ///< pixels, standard deviation
    double rotation = 0;                ///< degrees, greatest
    bool flip = false;                  ///< the second half of the lights upside down
    double transparency_low = 1;        ///< transparency varies between this and 1
    double sky_spread = 0;              ///< relative, greatest
    double gradient = 0;                ///< relative, greatest
    double fwhm = 3.0, fwhm_spread = 0; ///< pixels; relative
    int trails = 0;                     ///< on that many of the lights
    double cosmic_rays = 0;
    double extended_step = 1;
    std::string filter = "L";
};
Scenario plain_scenario(const PlainOptions& options = {});

/// Writes all files below `folder`, and the truth into the folder of the same name with ".truth" added (truth.json,
/// noiseless scene images, flat-field and defect maps as FITS). Existing files of these names are replaced. Throws
/// OutputError.
struct Written {
    std::filesystem::path folder, truth;
    std::size_t files = 0;
    std::uint64_t bytes = 0;
};
Written write_scenario(const Scenario& scenario, const std::filesystem::path& folder, const Context& context);

/// The folder that write_scenario puts the truth in.
std::filesystem::path truth_folder(const std::filesystem::path& folder);

} // namespace kasane::sky

// Which masters calibrate which lights, and why; which lights make one master light.
//
// The room holds, beside this:
//   pairer.hpp    how it is done, in four parts
//   checks.hpp    what is wrong or missing beyond what the pairing tells; neighbours.hpp: targets side by side
//   findings.hpp  one record for what a person should know
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/pairing/findings.hpp>

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A master to be built from single frames, or one that is already there (a single member that is a master).
struct MasterPlan {
    Role role = Role::unknown;
    std::string name;                   ///< unique among the masters, fit for a file name: "flat-L-2031-03-12"
    std::string identity;               ///< what its name stands for; see PairingOptions::names
    std::vector<std::size_t> members;   ///< exposures, by index
    std::optional<std::size_t> offset;  ///< flats: the master that removes their offset, by index
    std::optional<double> offset_level; ///< flats without such a master: a constant, ADU
    std::string offset_reason;
    bool existing = false;
    std::optional<double> temperature; ///< mean of the members, degrees Celsius
    std::optional<double> time;        ///< mean of the members, seconds since 1970
};

/// A master that was looked at and not taken.
struct NearMiss {
    std::size_t master = 0;
    std::string reason;  ///< "exposure differs (300 s, lights 120 s)"
    std::string allowed; ///< what would allow it; empty: nothing
};

/// What calibrates a light: (raw - bias - dark_scale (dark - bias)) / flat, or (raw - dark) / flat at scale 1.
struct LightPlan {
    std::size_t exposure = 0;
    std::optional<std::size_t> dark; ///< masters, by index: a dark, else a bias
    std::optional<std::size_t> bias; ///< only where the dark is scaled
    double dark_scale = 1;
    std::optional<std::size_t> second_dark; ///< uncooled cameras: the nearest on the other side of its temperature
    std::optional<double> offset_level;     ///< where neither dark nor bias is there: a constant, ADU
    std::optional<std::size_t> flat;
    std::string dark_reason, flat_reason;
};

/// Lights of a stack that are calibrated alike, and what was not taken for them.
struct LightsPairedAlike {
    std::vector<std::size_t> lights; ///< of StackPlan::lights, by index
    std::vector<NearMiss> near_misses;
};

/// The lights that become one master light.
struct StackPlan {
    std::string name;      ///< unique among the stacks, fit for a file name: "Paper-Lantern-Nebula-L"
    std::string identity;  ///< what its name stands for; see PairingOptions::names
    std::string name_note; ///< why it is not just target and filter; empty: it is
    std::string target, filter, sensor;
    std::vector<LightPlan> lights; ///< in order of time, then content
    std::vector<LightsPairedAlike> groups;
    bool mosaic = false; ///< of a colour filter array
};

struct Pairing {
    std::vector<MasterPlan> masters;
    std::vector<StackPlan> stacks;
    std::vector<Finding> findings;
};

struct PairingOptions {
    double temperature_tolerance = 2.5; ///< degrees; darks within it belong together, and fit a light within it
    double exposure_tolerance = 0.02;   ///< relative; a dark fits a light within it
    bool scale_darks = true;            ///< a dark of another exposure or temperature, where a bias fits
    bool flats_of_other_nights = true;  ///< where a night has none of its own, with a warning
    std::vector<Field> separate;        ///< lights that differ in these make stacks of their own
    std::optional<double> offset_level; ///< ADU, where no frame gives it
    /// Targets, squeezed, that are panels by their names and do not belong to all others: those of one word here make a
    /// picture of their own.
    std::map<std::string, std::string> apart;
    /// Names that were given before, by the identity of stack or master: what comes along later does not take them.
    std::map<std::string, std::string> names;
};

/// Sorts exposures into masters and stacks. Must agree: camera, size, binning, CFA, and gain and offset where known.
/// Should agree: exposure, temperature, orientation. Nearest wins: night, then time, then temperature. Darks of an
/// uncooled camera are grouped by temperature, and each light takes the nearest group. Flats of the light's own filter
/// and night, else of the nearest night with a warning. Whatever cannot be placed is a finding. The result depends on
/// the exposures alone, not on their order or paths.
Pairing pair_frames(const std::vector<Exposure>& exposures, const PairingOptions& options = {});

/// "300 s", "unknown exposure".
std::string seconds_text(const std::optional<double>& seconds);

} // namespace kasane

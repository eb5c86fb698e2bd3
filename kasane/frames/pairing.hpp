// Which masters calibrate which lights, and why; which lights make one master light.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/frames/findings.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// A master to be built from single frames, or one that is already there (a single member that is a master).
struct MasterPlan {
    Role role = Role::unknown;
    std::string name;                  ///< unique among the masters, fit for a file name: "flat-L-2031-03-12"
    std::vector<std::size_t> members;  ///< exposures, by index
    std::optional<std::size_t> offset; ///< flats: the master that removes their offset, by index
    std::string offset_reason;
    bool existing = false;
};

struct LightPlan {
    std::size_t exposure = 0;
    std::optional<std::size_t> dark; ///< masters, by index: a dark, else a bias
    std::optional<std::size_t> flat;
    std::string dark_reason, flat_reason;
};

/// The lights that become one master light.
struct StackPlan {
    std::string name; ///< unique among the stacks, fit for a file name: "Paper-Lantern-Nebula-L"
    std::string target, filter, sensor;
    std::vector<LightPlan> lights; ///< in order of their paths
};

struct Pairing {
    std::vector<MasterPlan> masters;
    std::vector<StackPlan> stacks;
    std::vector<Finding> findings;
};

struct PairingOptions {
    double temperature_tolerance = 2.5; ///< degrees; darks within it belong together, and fit a light within it
    double exposure_tolerance = 0.02;   ///< relative; a dark fits a light within it
};

/// Sorts exposures into masters and stacks. Must agree: camera, size, binning, CFA, and gain and offset where known.
/// Flats of the light's own filter and night, else of the nearest night with a warning. Whatever cannot be placed is a
/// finding. The order of the result depends on the exposures' paths only.
Pairing pair_frames(const std::vector<Exposure>& exposures, const PairingOptions& options = {});

/// Text fit for a file name: letters, digits, '.', '_' and '-'.
std::string file_safe(const std::string& text);

} // namespace kasane

// Registration of a project, reported: what lies between its lights, how well each fits, and where each lies.
#pragma once

#include <kasane/project/run.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/registration/rig.hpp>

#include <string>
#include <vector>

namespace kasane {

/// What a star is off by, at a place of its frame.
struct Residual {
    Point at;              ///< pixels of the frame
    double x = 0, y = 0;   ///< seen less foretold, pixels
    double expected = 0.1; ///< of the distance, by the star's own error and its partner's
    int star = 0;          ///< of the reference's list: what several lights show has one partner
};

/// One light on the grid.
struct AlignedFrame {
    std::string path, night, start;
    std::string rig; ///< as AlignedRig::key
    bool measured = false, registered = false, is_reference = false;
    std::string text;  ///< why it is not registered
    std::string model; ///< "similarity with radial distortion"
    std::string way;   ///< how it was found where not at once
    int stars = 0, matched = 0;
    double rms = 0, expected = 0, order = 0; ///< as in Registration
    double shift_x = 0, shift_y = 0;         ///< of the frame's middle on the grid, pixels of the grid
    double turn = 0;                         ///< degrees, counter-clockwise as displayed
    double scale = 1;                        ///< its pixels along the side of one of the grid
    bool mirrored = false;
    int width = 0, height = 0;
    std::vector<Point> outline;      ///< on the grid, all round; empty where not registered
    std::vector<Residual> residuals; ///< of its matched stars
    std::vector<Point> places;       ///< of its stars, brightest first; only where not registered
};

struct AlignedStack {
    std::string name, target, filter, sensor;
    std::vector<AlignedFrame> frames; ///< in order of time
};

/// A camera behind one telescope, and what was found of its lens.
struct AlignedRig {
    std::string key, name; ///< "Lantern 16M, 1280 x 960"
    RigOptics optics;
    int width = 0, height = 0;   ///< of its grid
    std::vector<Residual> field; ///< mean residuals by squares of the frame, over all its lights
    int frames = 0;
};

/// Stacks on one grid.
struct AlignedGrid {
    std::string name;
    std::string reference, reason; ///< the frame that gives it, and why
    std::vector<std::string> runners_up;
    int width = 0, height = 0;
    std::vector<Point> reference_places; ///< of its stars, brightest first
    std::vector<AlignedStack> stacks;
    std::vector<AlignedRig> rigs;
};

struct AlignReport {
    std::string folder;
    std::vector<AlignedGrid> grids;
    std::vector<Finding> findings;
    double time = 0;
    bool clean() const; ///< every light registered, nothing found
};

/// Builds the masters that are missing, measures and registers every light, whatever its verdict; writes the ledger and
/// nothing else. Throws as run_project does.
AlignReport align_project(const RunOptions& options, const Context& context);

/// Keeps in kasane.toml which light gives the grid: a path (relative to the project or to here), a glob, or "auto".
/// Returns what was written there. Throws UsageError where it names no light.
std::string keep_reference(const RunOptions& options, const std::string& wish, const Context& context);

} // namespace kasane

// Two star lists of one sky, without pixels: what registration is tried on.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/detection.hpp>

#include <memory>
#include <vector>

namespace kasane::sky {

struct StarViewOptions {
    int width = 1936, height = 1096;  ///< pixels, of both views
    int stars = 200;                  ///< that each view lists, the brightest that it sees
    double faint = 1.5;               ///< stars that it sees over those that it lists
    double clustered = 0;             ///< share of the stars that stand in clusters
    double slope = 0.8;               ///< of the brightness: N(> flux) ~ flux^-slope
    double noise = 0.1;               ///< of the centres, pixels along one axis
    double magnitudes = 0;            ///< standard deviation of a star's brightness from view to view
    double spurious = 0, missing = 0; ///< share of the list that is no star; of the stars that are not seen
    bool any_turn = true;             ///< else within half a degree of none
    double mirrored = 0;              ///< share of pairs
    double least_scale = 1, most_scale = 1;
    double least_overlap = 1, most_overlap = 1; ///< of the smaller view that the other shows
    double distortion = 0; ///< of both views, relative at the corner, growing with the cube of the distance
    double focal = 0; ///< pixels; the views are turned on the sphere by `swing` degrees in place of a shift; 0: flat
    double swing = 0;
    int common = 0;         ///< exactly so many stars are in both lists, the others are spurious; 0: as it comes
    bool unrelated = false; ///< the views show different skies
};

struct StarViews {
    std::vector<Star> reference, frame; ///< brightest first
    Transform truth;                    ///< from the reference's pixels to the frame's
};

/// Many views of one sky, the reference first.
struct StarFrames {
    std::vector<std::vector<Star>> lists;
    std::vector<Transform> truth; ///< from the pixels of the first
};

/// The same for the same seed. With `drift` each view is so much farther along than the one before, as shares of the
/// width, beside what the options say of pairs.
StarFrames star_frames(const StarViewOptions& options, std::uint64_t seed, int count, double drift = 0);

/// A mosaic: the sky about one direction, seen by a camera that is turned from panel to panel.
struct StarPanelOptions {
    int columns = 3, rows = 3;
    int frames = 4;           ///< of each panel
    double overlap = 0.1;     ///< of the sides of neighbours
    double dither = 0.01;     ///< standard deviation, of the width
    double turn = 1;          ///< degrees by which panels are turned, standard deviation
    double half_turned = 0.2; ///< share of panels that are upside down
    StarViewOptions view;     ///< size, stars, noise, distortion and focal length of each; what is of pairs is not used
};
struct StarPanels {
    std::vector<std::vector<Star>> lists; ///< panel by panel, row by row
    std::vector<int> panel;               ///< of each
    std::vector<Transform> truth;         ///< from the ideal plane of the first frame of the middle panel
    std::size_t middle = 0;               ///< that frame
};
/// The same for the same seed.
StarPanels star_panels(const StarPanelOptions& options, std::uint64_t seed);

/// The same pair for the same seed.
StarViews star_views(const StarViewOptions& options, std::uint64_t seed);

/// How far a transform is from the truth where the frame shows the reference, corners included: root mean square and
/// the largest, pixels.
struct TransformError {
    double rms = 0, worst = 0;
};
TransformError transform_error(const Transform& found, const StarViewOptions& options, const Transform& truth);

} // namespace kasane::sky

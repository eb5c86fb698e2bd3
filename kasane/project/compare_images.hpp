// Images of one field judged against each other: masters old and new, one's own and a friend's; no project is needed.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/finishing/comparison.hpp>

#include <filesystem>
#include <string>
#include <vector>

namespace kasane {

struct CompareOptions {
    std::vector<std::filesystem::path> files; ///< two or more; the first gives grid and brightness
    std::filesystem::path pictures;           ///< folder for pictures; empty: none
};

/// One image of a comparison.
struct JudgedImage {
    std::filesystem::path file;
    bool judged = false;
    std::string text; ///< why not
    int width = 0, height = 0, planes = 1;
    int stars = 0, matched = 0; ///< found; matched with the first image
    double rms = 0;             ///< of those, pixels
    double turn = 0;            ///< against the first, degrees counter-clockwise as displayed
    bool mirrored = false;
    double covered = 1;  ///< share of the first image that it shows
    double no_data = 0;  ///< share of its own pixels
    ImageJudgement told; ///< where it was judged
    std::vector<std::string> doubts;
};

struct ComparisonPicture {
    std::filesystem::path file;
    std::string text; ///< what it shows
};

struct CompareReport {
    std::vector<JudgedImage> images; ///< as named; the first is what the others are held against
    int stars = 0, places = 0;       ///< that all show: stars, and places of sky without any
    bool by_account = false;         ///< noise of discs is what all images state of themselves
    std::vector<ComparisonPicture> pictures;
    double time = 0;
    bool clean() const; ///< every image was judged, and nothing is doubtful
};

/// Registers the images onto the first (scale 0.2 to 5, any turn, mirrored), judges them (finishing/comparison.hpp) and
/// writes pictures of them where a folder is named. An image that cannot be read or registered is told in the report;
/// the others go on. Throws UsageError where fewer than two are named, one twice, or somebody else's file is in the way
/// (before any work), InputError where the first cannot be read, DataError where it has no stars, nothing is left to
/// compare it with, or the budget does not hold the images.
CompareReport compare_images(const CompareOptions& options, const Context& context);

} // namespace kasane

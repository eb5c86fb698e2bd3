// Master lights finished: gradients off, colours balanced, filters combined, cropped and turned, shown. Nothing is
// changed in place.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/finishing/finish_options.hpp>
#include <kasane/finishing/sharpen.hpp>
#include <kasane/stages/options.hpp>

#include <array>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct FinishCall {
    RunOptions project;                       ///< whose last run made the master lights, unless files are named
    std::vector<std::filesystem::path> files; ///< linear images on one canvas, each of a filter or in colour
    std::filesystem::path to; ///< folder for the results; empty: "finished" in the project's output, or where one is
    std::optional<FinishOptions> options; ///< nothing: as the project's recipe says
};

/// What sharpening made of a plane.
struct SharpenedPart {
    Sharpening how;
    int stars = 0, degree = 0; ///< that tell what a star looks like; of the polynomials of the place
    double fwhm = 0;           ///< of the stars afterwards, pixels
    double noise = 1;          ///< of a pixel of sky afterwards, over that before
    std::filesystem::path picture;
};
std::string sharpening_text(const SharpenedPart& part);

/// A plane of a master light.
struct FinishedPart {
    std::string name; ///< of its filter, or a colour
    std::filesystem::path file;
    double noise = 0;                         ///< ADU, as it was
    double sky = 0;                           ///< level of it, ADU
    std::string gradient;                     ///< what was found of it, in words
    double size = 0;                          ///< of the gradient, from end to end, ADU
    double left = 0, expected = 0, share = 0; ///< as Gradient has them; of the places the share that is sky
    bool taken_off = false;
    std::filesystem::path picture; ///< of sky and gradient; empty: none
    std::optional<SharpenedPart> sharpened;
};

struct FinishedImage {
    std::string name;
    int width = 0, height = 0, planes = 1;
    std::vector<FinishedPart> parts;
    std::string palette;                       ///< what makes red, green and blue, in words; empty: one plane
    std::array<double, 3> factors = {1, 1, 1}; ///< of red, green and blue
    std::string white;                         ///< how they were told; empty: they were not
    std::optional<LuminanceGain> luminance;
    std::string luminance_name;
    std::array<double, 3> noise = {};             ///< of each plane in the linear result, ADU
    std::string shape;                            ///< what was cropped, turned, mirrored, binned, in words
    std::vector<Stretch> curves;                  ///< by plane, with which it is shown
    double beyond_white = 0;                      ///< share of its pixels
    std::filesystem::path linear, shown, preview; ///< FITS; 16-bit TIFF; PNG
    std::vector<std::string> doubts;
    std::string failure; ///< why it could not be finished
};

struct FinishReport {
    std::filesystem::path folder;
    std::vector<FinishedImage> images;
    std::vector<std::string> notes; ///< what was not made of what is there, and why
    double time = 0;
    bool clean() const; ///< all finished, nothing doubtful
};

/// Finishes the master lights of a project's last run, target by target, or the files that are named. R, G and B (and
/// L) become one picture in colour, and so does a master light of a colour sensor; a palette makes one of any filters;
/// what is left is finished by itself. In this order: gradients of each plane, sharpening, combination, white,
/// luminance, geometry; that is written as FITS, linear, and stretched as a 16-bit TIFF and a preview. Throws
/// UsageError for what contradicts itself, before any work, InputError, OutputError, Cancelled; DataError where the
/// budget does not hold the images.
FinishReport finish_masters(const FinishCall& call, const Context& context);

} // namespace kasane

// Master lights for other programs: in the formats that they read, linear or stretched, with what the numbers mean.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/stages/options.hpp>

#include <array>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kasane {

enum class MasterFormat { fits, tiff, tiff_float, png, png_8, jpeg };
inline constexpr std::array<std::string_view, 6> kMasterFormatNames = {"fits", "tiff",  "tiff-float",
                                                                       "png",  "png-8", "jpeg"};
std::optional<MasterFormat> master_format_named(std::string_view name);

/// What 0 and 1 of a linear picture are, ADU.
struct LinearRange {
    double black = 0, white = 0;
};

struct MasterExportOptions {
    RunOptions project;                       ///< whose last run made the master lights, unless files are named
    std::vector<std::filesystem::path> files; ///< any images that Kasane reads, instead
    std::filesystem::path to;                 ///< a folder: outside the project, or among its results
    std::vector<MasterFormat> formats = {MasterFormat::tiff};
    /// Nothing: as is usual: FITS and floats are linear, the others stretched. FITS are linear always.
    std::optional<bool> stretched;
    std::optional<LinearRange> range; ///< nothing: 0, and the first of 255, 511, 1023, ... that no pixel exceeds
    StretchOptions stretch;
    std::string name = "{name}"; ///< of the files: {name}, {target}, {filter}, {seconds}, {frames}
    std::string filter;          ///< only this; empty: all
    int quality = 92;            ///< of JPEG, 1 to 100
};

/// One file that was written.
struct ExportedMaster {
    std::filesystem::path source, file;
    MasterFormat format = MasterFormat::tiff;
    bool stretched = false;
    int width = 0, height = 0, planes = 1;
    LinearRange range;            ///< linear ones but FITS
    std::vector<Stretch> curves;  ///< stretched ones, by plane
    double below = 0, beyond = 0; ///< shares of the values that are cut off at black and white; of FITS and floats 0
    double no_data = 0;           ///< share of the values
    std::string doubt;            ///< empty: none
};

struct MasterExportReport {
    std::filesystem::path folder;
    std::vector<ExportedMaster> files;
    bool clean() const;
};

/// Writes them. Nothing is replaced that Kasane did not write. Throws UsageError (before any work) where options
/// contradict, names would be the same or lead elsewhere, a file of somebody else stands there, or the folder lies
/// inside the project; InputError, OutputError, Cancelled; DataError where the budget does not hold an image.
MasterExportReport export_masters(const MasterExportOptions& options, const Context& context);

} // namespace kasane

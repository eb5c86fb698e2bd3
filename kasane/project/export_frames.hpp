// Single lights for another program: calibrated, and registered if one likes.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/stages/options.hpp>

#include <filesystem>
#include <string>
#include <vector>

namespace kasane {

struct FrameExportOptions {
    RunOptions project;
    std::filesystem::path to;  ///< a folder outside the project
    bool registered = false;   ///< on the grid of their group, interpolated; else on their own pixels
    bool tiff = false;         ///< 32-bit float TIFF rather than FITS
    bool dropped = false;      ///< the dropped lights instead of the kept ones
    bool blank = false;        ///< pixels that were rejected in their stack become NaN; not of dropped lights
    std::string filter, night; ///< only these; empty: all
};

struct FrameExportReport {
    std::filesystem::path folder;
    int written = 0, there_already = 0;
    std::int64_t blanked = 0; ///< rejected samples of those written
    struct LeftOut {
        std::string path, reason;
    };
    std::vector<LeftOut> left_out; ///< that were asked for and are not there
};

/// Writes PLACE/NAME.calibrated.fits or .registered.fits for each light, PLACE being its folder in the project: 32-bit
/// floats, ADU above the offset, headers kept (FITS). A mosaic of colours that is not registered stays one; registered
/// it has three planes. Pixels without data are NaN. One light at a time is in memory. What was written by an earlier
/// call of the same lights, masters and settings stays, so that a call which was broken off goes on. Makes masters and
/// measures that are missing. With `blank` each stack is integrated as well, once. Throws UsageError (a folder inside
/// the project, files of somebody else, no such light, options that contradict), before any pixels are read;
/// OutputError, Cancelled.
FrameExportReport export_frames(const FrameExportOptions& options, const Context& context);

} // namespace kasane

// A registration as text for a terminal, and as CSV.
#pragma once

#include <kasane/project/align.hpp>
#include <kasane/project/align_images.hpp>

#include <cstddef>
#include <string>

namespace kasane {

struct AlignTableOptions {
    std::string filter, night; ///< only these; empty: all
    std::size_t most = 0;      ///< rows of a stack's night; 0: all
    int width = 100;           ///< characters of a line
};

/// Grids with their reference and why, the optics of the rigs, and a table a night and stack, worst first.
std::string align_text(const AlignReport& report, const AlignTableOptions& options);

/// Images on the grid of another: a line each, then why some could not be.
std::string align_text(const ImageAlignReport& report, int columns);

/// Every light, one a row, with a heading (RFC 4180).
std::string align_csv(const AlignReport& report);

} // namespace kasane

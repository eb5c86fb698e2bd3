// A registration drawn: what the stars of a rig leave, what its lens does, where its frames lie; and the star lists of
// frames that failed. As SVG 1.1, which any browser shows.
#pragma once

#include <kasane/project/align.hpp>

#include <string>
#include <vector>

namespace kasane {

struct NamedPicture {
    std::string name; ///< safe as a file name, without ending
    std::string svg;
};

/// One a rig, then one a frame that could not be registered (at most 24 of a grid).
std::vector<NamedPicture> align_pictures(const AlignReport& report);

/// Tables and pictures as one self-contained page.
std::string align_page(const AlignReport& report);

} // namespace kasane

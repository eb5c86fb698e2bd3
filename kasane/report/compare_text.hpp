// A comparison of images as text for a terminal.
#pragma once

#include <kasane/project/compare_images.hpp>

#include <string>

namespace kasane {

/// A line an image, then what is told of each against the first, then what is doubtful.
std::string compare_text(const CompareReport& report, int columns);

} // namespace kasane

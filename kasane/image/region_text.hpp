// Rectangles as a person writes them: x, y, width and height in pixels, "1000 800 2000 1500".
#pragma once

#include <kasane/image/image.hpp>

#include <optional>
#include <string>

namespace kasane {

/// Nothing for text that is no rectangle of pixels of an image: numbers below 0 (unless it may reach `beyond` the
/// image) or above a million, no area, more text.
std::optional<Region> parse_region(const std::string& text, bool beyond = false);
std::string region_text(const Region& region);

} // namespace kasane

// Palettes and whites as a person writes them.
#pragma once

#include <kasane/image/image.hpp>

#include <array>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// Which channels make red, green and blue, and how much of each.
struct Palette {
    using Sum = std::vector<std::pair<std::string, double>>; ///< channels by name, and their factors
    std::array<Sum, 3> colours;
    bool empty() const { return colours[0].empty() && colours[1].empty() && colours[2].empty(); }
    bool operator==(const Palette&) const = default;
};
inline constexpr std::array<const char*, 3> kColourNames = {"red", "green", "blue"};

/// "Ha", "0.3 Ha + 0.7 OIII", factors from -100 to 100. Throws UsageError.
Palette::Sum parse_channel_sum(const std::string& text);
/// Three such sums for red, green and blue, "Ha; 0.3 Ha + 0.7 OIII; OIII". Throws UsageError.
Palette parse_palette(const std::string& text);
std::string channel_sum_text(const Palette::Sum& sum);

/// How what is white is told.
struct WhiteChoice {
    enum class By { stars, region, given } by = By::stars;
    Region region;                             ///< whose light is white
    std::array<double, 3> factors = {1, 1, 1}; ///< of red, green and blue
    bool operator==(const WhiteChoice&) const = default;
};

/// "stars", "x y width height" or "red green blue" (factors above 0, to 100). Throws UsageError.
WhiteChoice parse_white(const std::string& text);

} // namespace kasane

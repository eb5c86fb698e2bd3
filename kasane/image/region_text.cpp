#include <kasane/image/region_text.hpp>

#include <fmt/format.h>
#include <sstream>

namespace kasane {

std::optional<Region> parse_region(const std::string& text, bool beyond) {
    constexpr int kMost = 1000000; // pixels
    std::istringstream in(text);
    Region r;
    std::string rest;
    if (!(in >> r.x >> r.y >> r.width >> r.height) || in >> rest) return std::nullopt;
    if (!beyond && (r.x < 0 || r.y < 0)) return std::nullopt;
    if (r.x < -kMost || r.y < -kMost || r.empty() || r.x > kMost || r.y > kMost || r.width > kMost || r.height > kMost)
        return std::nullopt;
    return r;
}

std::string region_text(const Region& r) {
    return fmt::format("{} {} {} {}", r.x, r.y, r.width, r.height);
}

} // namespace kasane

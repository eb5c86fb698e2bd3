#include <kasane/calibration/master_effect.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>

namespace kasane {

namespace {

constexpr float kLeastResponse = 0.02f; // of the flat's level; what responds less carries no light to speak of

void read_master(const FrameReader& master, const Region& region, int plane, float* to) {
    master.read(region, {to, region.width, region.height, region.width}, plane);
}

/// What the darks take away.
void take_darks(const MasterChoice& c, const Region& region, int plane, float* subtract, std::vector<float>& scratch) {
    const float scale = c.bias ? c.dark_scale : 1.0f, second = c.second_dark ? c.second_share : 0.0f;
    read_master(*c.dark, region, plane, subtract);
    const float first = scale * (1 - second);
    const auto area = static_cast<std::size_t>(region.area());
    for (std::size_t i = 0; first != 1 && i < area; ++i)
        subtract[i] *= first;
    const auto add = [&](const FrameReader& master, float factor) {
        scratch.resize(std::max(scratch.size(), area));
        read_master(master, region, plane, scratch.data());
        for (std::size_t i = 0; i < area; ++i)
            subtract[i] += factor * scratch[i];
    };
    if (second != 0) add(*c.second_dark, scale * second);
    if (c.bias && scale != 1) add(*c.bias, 1 - scale);
}

/// One over the flat's response.
void take_flat(const MasterChoice& c, const Region& region, int plane, bool mosaic, float* multiply,
               std::vector<float>& scratch) {
    read_master(*c.flat, region, plane, multiply);
    const auto& levels = c.flat_level;
    const bool by_pixel = mosaic && !c.cfa.empty() && !(levels[0] == levels[1] && levels[1] == levels[2]);
    const auto width = static_cast<std::size_t>(region.width);
    scratch.assign(width, levels[static_cast<std::size_t>(mosaic ? 0 : plane)]);
    for (int y = 0; y < region.height; ++y) {
        for (int x = 0; by_pixel && x < region.width; ++x)
            scratch[static_cast<std::size_t>(x)] =
                levels[static_cast<std::size_t>(c.cfa.colour(region.x + x, region.y + y))];
        reciprocal_row(multiply + static_cast<std::size_t>(y) * width, scratch.data(), kLeastResponse, width);
    }
}

} // namespace

void take_effect(const MasterChoice& masters, const Region& region, int plane, bool mosaic, float* subtract,
                 float* multiply, std::vector<float>& scratch) {
    if (masters.dark) take_darks(masters, region, plane, subtract, scratch);
    if (masters.flat) take_flat(masters, region, plane, mosaic, multiply, scratch);
}

} // namespace kasane

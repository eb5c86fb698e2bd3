#include <kasane/calibration/master_window.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>

namespace kasane {

namespace {

constexpr float kLeastResponse = 0.02f; // of the flat's level; what responds less carries no light to speak of

} // namespace

bool MasterWindow::Part::made_by(const CalibrationSet& c) const {
    return dark == c.dark && bias == c.bias && second_dark == c.second_dark && flat == c.flat &&
           dark_scale == c.dark_scale && second_share == c.second_share && flat_level == c.flat_level && cfa == c.cfa;
}

void MasterWindow::read(const FrameReader& master, const Region& region, int plane, std::vector<float>& to) {
    to.resize(std::max(to.size(), static_cast<std::size_t>(region.area())));
    master.read(region, {to.data(), region.width, region.height, region.width}, plane);
}

/// What the darks take away.
void MasterWindow::take_darks(Part& part, const CalibrationSet& c, const Region& region, int plane) {
    if (!c.dark) return;
    const float scale = c.bias ? c.dark_scale : 1.0f, second = c.second_dark ? c.second_share : 0.0f;
    read(*c.dark, region, plane, part.subtract);
    const float first = scale * (1 - second);
    const auto area = static_cast<std::size_t>(region.area());
    for (std::size_t i = 0; first != 1 && i < area; ++i)
        part.subtract[i] *= first;
    const auto add = [&](const FrameReader& master, float factor) {
        read(master, region, plane, scratch_);
        for (std::size_t i = 0; i < area; ++i)
            part.subtract[i] += factor * scratch_[i];
    };
    if (second != 0) add(*c.second_dark, scale * second);
    if (c.bias && scale != 1) add(*c.bias, 1 - scale);
}

/// One over the flat's response.
void MasterWindow::take_flat(Part& part, const CalibrationSet& c, const Region& region, int plane, bool one_plane) {
    if (!c.flat) return;
    read(*c.flat, region, plane, part.multiply);
    const auto& levels = c.flat_level;
    const bool by_pixel = one_plane && !c.cfa.empty() && !(levels[0] == levels[1] && levels[1] == levels[2]);
    const auto width = static_cast<std::size_t>(region.width);
    scratch_.assign(width, levels[static_cast<std::size_t>(one_plane ? 0 : plane)]);
    for (int y = 0; y < region.height; ++y) {
        for (int x = 0; by_pixel && x < region.width; ++x)
            scratch_[static_cast<std::size_t>(x)] =
                levels[static_cast<std::size_t>(c.cfa.colour(region.x + x, region.y + y))];
        reciprocal_row(part.multiply.data() + static_cast<std::size_t>(y) * width, scratch_.data(), kLeastResponse,
                       width);
    }
}

MasterWindow::Part& MasterWindow::part_for(const CalibrationSet& c, const FrameReader& raw, const Region& region,
                                           int plane) {
    parts_.resize(std::max(parts_.size(), static_cast<std::size_t>(plane) + 1));
    Part& part = parts_[static_cast<std::size_t>(plane)];
    const bool same = part.made_by(c);
    if (same && part.region.contains(region)) {
        part.served = true;
        return part;
    }
    // Beyond the rectangle only as long as that serves.
    const int margin = part.served ? margin_ : 0;
    part.region = {}; // of no use until all is read
    const Region wide = intersect(
        {region.x - margin, region.y - margin, region.width + 2 * margin, region.height + 2 * margin}, raw.bounds());
    take_darks(part, c, wide, plane);
    take_flat(part, c, wide, plane, raw.planes() == 1);
    part.dark = c.dark, part.bias = c.bias, part.second_dark = c.second_dark, part.flat = c.flat;
    part.dark_scale = c.dark_scale, part.second_share = c.second_share, part.flat_level = c.flat_level;
    part.cfa = c.cfa;
    part.region = wide;
    part.served = margin == 0; // tried again with the next
    return part;
}

void MasterWindow::apply(const CalibrationSet& c, const FrameReader& raw, const Region& region, int plane,
                         View<float> values) {
    if (!c.dark && !c.flat) return;
    const Part& part = part_for(c, raw, region, plane);
    for (int y = 0; y < region.height; ++y) {
        const std::size_t at =
            static_cast<std::size_t>(region.y + y - part.region.y) * static_cast<std::size_t>(part.region.width) +
            static_cast<std::size_t>(region.x - part.region.x);
        calibrate_row(values.row(y), c.dark ? part.subtract.data() + at : nullptr,
                      c.flat ? part.multiply.data() + at : nullptr, static_cast<std::size_t>(region.width));
    }
}

} // namespace kasane

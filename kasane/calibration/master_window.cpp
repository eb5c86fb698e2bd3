#include <kasane/calibration/master_window.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>

namespace kasane {

MasterWindow::Part& MasterWindow::part_for(const CalibrationSet& c, const FrameReader& raw, const Region& region,
                                           int plane) {
    parts_.resize(std::max(parts_.size(), static_cast<std::size_t>(plane) + 1));
    Part& part = parts_[static_cast<std::size_t>(plane)];
    MasterChoice choice(c);
    const bool same = part.by == choice;
    if (same && part.region.contains(region)) {
        if (part.made_in != reads_) part.served = true;
        return part;
    }
    // Beyond the rectangle only as long as that serves.
    const int margin = part.served ? margin_ : 0;
    part.region = {}; // of no use until all is read
    const Region& all = around_.contains(region) ? around_ : region;
    const Region wide =
        intersect({all.x - margin, all.y - margin, all.width + 2 * margin, all.height + 2 * margin}, raw.bounds());
    const auto room = static_cast<std::size_t>(wide.area());
    if (c.dark) part.subtract.resize(std::max(part.subtract.size(), room));
    if (c.flat) part.multiply.resize(std::max(part.multiply.size(), room));
    take_effect(choice, wide, plane, raw.planes() == 1, part.subtract.data(), part.multiply.data(), scratch_);
    part.by = std::move(choice);
    part.region = wide;
    part.served = margin == 0; // tried again with the next
    part.made_in = reads_;
    return part;
}

bool MasterWindow::apply(const CalibrationSet& c, const FrameReader& raw, const Region& region, int plane,
                         View<float> values) {
    const auto width = static_cast<std::size_t>(region.width);
    bool whole = true;
    if (!c.dark && !c.flat) {
        for (int y = 0; whole && y < region.height; ++y)
            whole = !any_gap(values.row(y), width);
        return whole;
    }
    const Part& part = part_for(c, raw, region, plane);
    for (int y = 0; y < region.height; ++y) {
        const std::size_t at =
            static_cast<std::size_t>(region.y + y - part.region.y) * static_cast<std::size_t>(part.region.width) +
            static_cast<std::size_t>(region.x - part.region.x);
        whole &= calibrate_row(values.row(y), c.dark ? part.subtract.data() + at : nullptr,
                               c.flat ? part.multiply.data() + at : nullptr, width);
    }
    return whole;
}

} // namespace kasane

#include <kasane/calibration/master_frame.hpp>

#include <kasane/calibration/master_effect.hpp>
#include <kasane/image/row_arithmetic.hpp>

namespace kasane {

struct MasterFrame::Made {
    MasterChoice by;
    int planes;
    Region bounds;
    Image subtract, multiply; ///< empty without a dark, or a flat
};

MasterFrame::MasterFrame(const CalibrationSet& c, const FrameReader& raw, const Workers* workers)
    : made_(std::make_unique<Made>(Made{MasterChoice(c), raw.planes(), raw.bounds(), {}, {}})) {
    Made& m = *made_;
    if (c.dark) m.subtract = Image(raw.width(), raw.height(), raw.planes());
    if (c.flat) m.multiply = Image(raw.width(), raw.height(), raw.planes());
    std::vector<std::pair<int, Region>> bands;
    for (int p = 0; p < raw.planes(); ++p)
        for_each_band(m.bounds, [&](const Region& band) { bands.emplace_back(p, band); });
    const auto make = [&](std::size_t k) {
        const auto& [p, band] = bands[k];
        std::vector<float> scratch;
        take_effect(m.by, band, p, raw.planes() == 1, c.dark ? m.subtract.plane(p).row(band.y) : nullptr,
                    c.flat ? m.multiply.plane(p).row(band.y) : nullptr, scratch);
    };
    if (workers)
        workers->for_each(bands.size(), make);
    else
        for (std::size_t k = 0; k < bands.size(); ++k)
            make(k);
}

MasterFrame::~MasterFrame() = default;

std::uint64_t MasterFrame::bytes(const CalibrationSet& c, const FrameReader& raw) {
    const std::uint64_t each = (c.dark ? sizeof(float) : 0) + (c.flat ? sizeof(float) : 0);
    return each * static_cast<std::uint64_t>(raw.bounds().area()) * static_cast<std::uint64_t>(raw.planes());
}

bool MasterFrame::serves_alike(const CalibrationSet& one, const FrameReader& raw, const CalibrationSet& other,
                               const FrameReader& other_raw) {
    return raw.planes() == other_raw.planes() && raw.bounds() == other_raw.bounds() &&
           MasterChoice(one) == MasterChoice(other);
}

bool MasterFrame::made_by(const CalibrationSet& c, const FrameReader& raw) const {
    return made_->planes == raw.planes() && made_->bounds == raw.bounds() && made_->by == MasterChoice(c);
}

bool MasterFrame::apply(const Region& region, int plane, View<float> values) const {
    const Made& m = *made_;
    bool whole = true;
    for (int y = 0; y < region.height; ++y)
        whole &= calibrate_row(values.row(y), m.subtract.empty() ? nullptr : &m.subtract(region.x, region.y + y, plane),
                               m.multiply.empty() ? nullptr : &m.multiply(region.x, region.y + y, plane),
                               static_cast<std::size_t>(region.width));
    return whole;
}

} // namespace kasane

#include <kasane/calibration/calibrated_view.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <fmt/format.h>
#include <vector>

namespace kasane {

CalibratedView::CalibratedView(std::shared_ptr<const FrameReader> raw, CalibrationSet calibration)
    : raw_(std::move(raw)), calibration_(std::move(calibration)) {
    for (const auto& part : {calibration_.dark, calibration_.bias, calibration_.flat})
        if (part && part->bounds() != raw_->bounds())
            throw InputError(fmt::format("is {} x {} pixels and cannot calibrate a light of {} x {}", part->width(),
                                         part->height(), raw_->width(), raw_->height()),
                             part->path(), "Use calibration frames of the same camera and binning");
}

void CalibratedView::read_unrepaired(const Region& region, View<float> out) const {
    raw_->read(region, out);
    if (calibration_.offset_level != 0 && !calibration_.dark)
        for (int y = 0; y < region.height; ++y)
            for (int x = 0; x < region.width; ++x)
                out(x, y) -= calibration_.offset_level;
    if (!calibration_.dark && !calibration_.flat) return;
    std::vector<float> part(static_cast<std::size_t>(region.area()));
    const View<float> lines{part.data(), region.width, region.height, region.width};
    const float scale = calibration_.bias ? calibration_.dark_scale : 1.0f;
    if (calibration_.dark) {
        calibration_.dark->read(region, lines);
        for (int y = 0; y < region.height; ++y) {
            float* to = out.row(y);
            const float* dark = lines.row(y);
            for (int x = 0; x < region.width; ++x)
                to[x] -= scale * dark[x];
        }
    }
    if (calibration_.dark && calibration_.bias) {
        calibration_.bias->read(region, lines);
        for (int y = 0; y < region.height; ++y) {
            float* to = out.row(y);
            const float* bias = lines.row(y);
            for (int x = 0; x < region.width; ++x)
                to[x] -= (1 - scale) * bias[x];
        }
    }
    if (calibration_.flat) {
        calibration_.flat->read(region, lines);
        for (int y = 0; y < region.height; ++y) {
            float* to = out.row(y);
            const float* flat = lines.row(y);
            for (int x = 0; x < region.width; ++x)
                to[x] = to[x] * calibration_.flat_level / flat[x];
        }
    }
}

float CalibratedView::repaired(int x, int y, const Region& region, View<const float> known) const {
    constexpr int kMostReach = 4;
    for (int reach = 1; reach <= kMostReach; ++reach) {
        const Region r = intersect({x - reach, y - reach, 2 * reach + 1, 2 * reach + 1}, bounds());
        std::array<float, (2 * kMostReach + 1) * (2 * kMostReach + 1)> around{}, sound{};
        // What is calibrated already serves; only at the rectangle's edge must neighbours be read.
        View<const float> v = known;
        int left = r.x - region.x, top = r.y - region.y;
        if (!region.contains(r)) {
            const View<float> fresh{around.data(), r.width, r.height, r.width};
            read_unrepaired(r, fresh);
            v = fresh;
            left = top = 0;
        }
        std::size_t n = 0;
        for (int j = 0; j < r.height; ++j)
            for (int i = 0; i < r.width; ++i)
                if (!calibration_.defects->contains(r.x + i, r.y + j)) sound[n++] = v(left + i, top + j);
        if (n >= 3) return median_in_place(std::span(sound.data(), n));
    }
    return kNoData;
}

void CalibratedView::read(const Region& region, View<float> out) const {
    read_unrepaired(region, out);
    if (!calibration_.defects) return;
    calibration_.defects->for_each(
        region, [&](int x, int y) { out(x - region.x, y - region.y) = repaired(x, y, region, out); });
}

void CalibratedView::release() const {
    raw_->release();
    if (calibration_.dark) calibration_.dark->release();
    if (calibration_.bias) calibration_.bias->release();
    if (calibration_.flat) calibration_.flat->release();
}

std::uint64_t CalibratedView::mapped_bytes(const Region& region) const {
    std::uint64_t bytes = raw_->mapped_bytes(region);
    if (calibration_.dark) bytes += calibration_.dark->mapped_bytes(region);
    if (calibration_.bias) bytes += calibration_.bias->mapped_bytes(region);
    if (calibration_.flat) bytes += calibration_.flat->mapped_bytes(region);
    return bytes;
}

} // namespace kasane

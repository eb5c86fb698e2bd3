#include <kasane/calibration/calibrated_view.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace kasane {

namespace {

constexpr float kLeastResponse = 0.02f; // of the flat's level; what responds less carries no light to speak of

/// to -= factor * from, row by row.
void subtract(View<float> to, float factor, View<const float> from) {
    for (int y = 0; y < to.height; ++y) {
        float* t = to.row(y);
        const float* f = from.row(y);
        subtract_row(t, factor, f, static_cast<std::size_t>(to.width));
    }
}

/// The places in a row that are not finite.
template <class F>
void for_each_gap(View<const float> v, F f) {
    for (int y = 0; y < v.height; ++y) {
        const float* row = v.row(y);
        if (!any_gap(row, static_cast<std::size_t>(v.width))) continue;
        for (int x = 0; x < v.width; ++x)
            if (!std::isfinite(row[x])) f(x, y);
    }
}

} // namespace

CalibratedView::CalibratedView(std::shared_ptr<const FrameReader> raw, CalibrationSet calibration)
    : raw_(std::move(raw)), calibration_(std::move(calibration)) {
    const CalibrationSet& c = calibration_;
    for (const auto& part : {c.dark, c.bias, c.second_dark, c.flat}) {
        if (!part) continue;
        if (part->bounds() != raw_->bounds())
            throw UnfitError(fmt::format("is {} x {} pixels and cannot calibrate a light of {} x {}", part->width(),
                                         part->height(), raw_->width(), raw_->height()),
                             part->path(), "Use calibration frames of the same camera and binning");
        if (part->planes() < raw_->planes())
            throw UnfitError(
                fmt::format("has {} plane and cannot calibrate a light of {} colours", part->planes(), raw_->planes()),
                part->path(), "Use calibration frames converted in the same way as the lights");
    }
    if (c.hidden && c.hidden->bounds() != raw_->bounds())
        throw UnfitError(fmt::format("is {} x {} pixels, its mask {} x {}", raw_->width(), raw_->height(),
                                     c.hidden->width(), c.hidden->height()),
                         raw_->path(), "Draw the mask on one of the lights");
    even_flat_ = c.flat_level[0] == c.flat_level[1] && c.flat_level[1] == c.flat_level[2];
}

void CalibratedView::divide_by_flat(const Region& region, View<const float> flat, int plane, View<float> out) const {
    const CalibrationSet& c = calibration_;
    std::vector<float> level(static_cast<std::size_t>(region.width),
                             c.flat_level[static_cast<std::size_t>(raw_->planes() == 3 ? plane : 0)]);
    const bool by_pixel = !even_flat_ && !c.cfa.empty() && raw_->planes() == 1;
    for (int y = 0; y < region.height; ++y) {
        if (by_pixel)
            for (int x = 0; x < region.width; ++x)
                level[static_cast<std::size_t>(x)] =
                    c.flat_level[static_cast<std::size_t>(c.cfa.colour(region.x + x, region.y + y))];
        divide_row(out.row(y), level.data(), flat.row(y), kLeastResponse, level.size());
    }
}

void CalibratedView::read_unrepaired(const Region& region, View<float> out, int plane) const {
    const CalibrationSet& c = calibration_;
    raw_->read(region, out, plane);
    if (c.offset_level != 0 && !c.dark)
        for (int y = 0; y < region.height; ++y)
            for (int x = 0; x < region.width; ++x)
                out(x, y) -= c.offset_level;
    if (c.own && (!c.own->rows.empty() || !c.own->columns.empty()))
        for (int y = 0; y < region.height; ++y) {
            const float row = c.own->rows.empty() ? 0 : c.own->rows[static_cast<std::size_t>(region.y + y)];
            for (int x = 0; x < region.width; ++x)
                out(x, y) -=
                    row + (c.own->columns.empty() ? 0 : c.own->columns[static_cast<std::size_t>(region.x + x)]);
        }
    if (!c.dark && !c.flat) return;
    // A few rows at a time, so that what is read of the masters is still at hand when it is used.
    constexpr int kPixels = 4096;
    const int rows = std::clamp(kPixels / std::max(1, region.width), 1, std::max(1, region.height));
    std::vector<float> part(static_cast<std::size_t>(region.width) * static_cast<std::size_t>(rows));
    for (int y = 0; y < region.height; y += rows) {
        const Region band{region.x, region.y + y, region.width, std::min(rows, region.height - y)};
        apply_masters(band, {part.data(), band.width, band.height, band.width},
                      out.crop({0, y, band.width, band.height}), plane);
    }
}

void CalibratedView::apply_masters(const Region& region, View<float> lines, View<float> out, int plane) const {
    const CalibrationSet& c = calibration_;
    if (c.dark) {
        const float scale = c.bias ? c.dark_scale : 1.0f;
        const float second = c.second_dark ? c.second_share : 0.0f;
        c.dark->read(region, lines, plane);
        subtract(out, scale * (1 - second), lines);
        if (second != 0) {
            c.second_dark->read(region, lines, plane);
            subtract(out, scale * second, lines);
        }
        if (c.bias && scale != 1) {
            c.bias->read(region, lines, plane);
            subtract(out, 1 - scale, lines);
        }
    }
    if (c.flat) {
        c.flat->read(region, lines, plane);
        divide_by_flat(region, lines, plane, out);
    }
}

bool CalibratedView::is_defect(int x, int y) const {
    return (calibration_.defects && calibration_.defects->contains(x, y)) ||
           (calibration_.own && calibration_.own->defects.contains(x, y));
}

float CalibratedView::repaired(int x, int y, const Region& region, View<const float> known, int plane) const {
    const CfaPattern& cfa = calibration_.cfa;
    const bool mosaic = !cfa.empty() && raw_->planes() == 1;
    const int step = mosaic ? 2 : 1, most = 4 * step;
    const int own = cfa.colour(x, y);
    std::array<float, 17 * 17> around{}, sound{};
    for (int reach = step; reach <= most; reach += step) {
        const Region r = intersect({x - reach, y - reach, 2 * reach + 1, 2 * reach + 1}, bounds());
        // What is calibrated already serves; only at the rectangle's edge must neighbours be read.
        View<const float> v = known;
        int left = r.x - region.x, top = r.y - region.y;
        if (!region.contains(r)) {
            const View<float> fresh{around.data(), r.width, r.height, r.width};
            read_unrepaired(r, fresh, plane);
            v = fresh;
            left = top = 0;
        }
        std::size_t n = 0;
        for (int j = 0; j < r.height; ++j)
            for (int i = 0; i < r.width; ++i) {
                if (mosaic && cfa.colour(r.x + i, r.y + j) != own) continue;
                const float value = v(left + i, top + j);
                if (std::isfinite(value) && !is_defect(r.x + i, r.y + j)) sound[n++] = value;
            }
        if (n >= 3) return median_in_place(std::span(sound.data(), n));
        if (reach == most && n > 0) return median_in_place(std::span(sound.data(), n));
    }
    return kNoData;
}

void CalibratedView::read(const Region& region, View<float> out, int plane, QualityPlane* quality) const {
    read_unrepaired(region, out, plane);
    // Replacements are written when all are known, so that none is made from another.
    struct Made {
        int x, y;
        float value;
    };
    std::vector<Made> made;
    const auto replace = [&](int x, int y) { made.push_back({x, y, repaired(x, y, region, out, plane)}); };
    for_each_gap(out, [&](int x, int y) { replace(region.x + x, region.y + y); });
    if (calibration_.defects) calibration_.defects->for_each(region, replace);
    if (calibration_.own) calibration_.own->defects.for_each(region, replace);
    if (quality) quality->clear(region.width, region.height);
    for (const auto& [x, y, value] : made) {
        out(x - region.x, y - region.y) = value;
        if (quality) quality->mark(x - region.x, y - region.y, quality::kRepaired);
    }
    if (calibration_.hidden)
        for (int y = 0; y < region.height; ++y) {
            const std::uint8_t* hidden = calibration_.hidden->plane().row(region.y + y) + region.x;
            for (int x = 0; x < region.width; ++x)
                if (hidden[x]) out(x, y) = kNoData;
        }
}

void CalibratedView::release() const {
    raw_->release();
    for (const auto& part : {calibration_.dark, calibration_.bias, calibration_.second_dark, calibration_.flat})
        if (part) part->release();
}

std::uint64_t CalibratedView::mapped_bytes(const Region& region) const {
    std::uint64_t bytes = raw_->mapped_bytes(region);
    for (const auto& part : {calibration_.dark, calibration_.bias, calibration_.second_dark, calibration_.flat})
        if (part) bytes += part->mapped_bytes(region);
    return bytes;
}

} // namespace kasane

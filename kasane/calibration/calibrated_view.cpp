#include <kasane/calibration/calibrated_view.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/calibration/master_frame.hpp>
#include <kasane/calibration/master_window.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <vector>

namespace kasane {

namespace {

/// Calls f(x, y) for the places that are not finite, by rows.
template <class F>
void for_each_gap(View<const float> v, F f) {
    for (int y = 0; y < v.height; ++y) {
        const float* row = v.row(y);
        if (!any_gap(row, static_cast<std::size_t>(v.width))) continue;
        for (int x = 0; x < v.width; ++x)
            if (!std::isfinite(row[x])) f(x, y);
    }
}

/// Calls f(rectangle) for the rows of a rectangle, as many at a time as pixels say; one at least.
template <class F>
void for_each_few_rows(const Region& region, int pixels, F f) {
    const int rows = std::clamp(pixels / std::max(1, region.width), 1, std::max(1, region.height));
    for (int y = 0; y < region.height; y += rows)
        f(Region{region.x, region.y + y, region.width, std::min(rows, region.height - y)});
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
    if (c.prepared && !c.prepared->made_by(c, *raw_))
        throw UsageError("is to be calibrated by what other masters do", raw_->path(), {});
    if (c.hidden && c.hidden->bounds() != raw_->bounds())
        throw UnfitError(fmt::format("is {} x {} pixels, its mask {} x {}", raw_->width(), raw_->height(),
                                     c.hidden->width(), c.hidden->height()),
                         raw_->path(), "Draw the mask on one of the lights");
}

void CalibratedView::read_unrepaired(const Region& region, View<float> out, int plane, MasterWindow* masters) const {
    calibrate(region, out, plane, masters, {});
}

void CalibratedView::calibrate(const Region& region, View<float> out, int plane, MasterWindow* masters,
                               const Found& found) const {
    constexpr int kAtHand = 1 << 15; // pixels that the processor keeps at hand from step to step
    for_each_few_rows(region, kAtHand, [&](const Region& band) {
        const View<float> rows = out.crop({0, band.y - region.y, band.width, band.height});
        const bool whole = calibrate_rows(band, rows, plane, masters, found.saturated);
        if (found.gaps && !whole)
            for_each_gap(rows, [&](int x, int y) { found.gaps->emplace_back(band.x + x, band.y + y); });
    });
}

bool CalibratedView::calibrate_rows(const Region& region, View<float> out, int plane, MasterWindow* masters,
                                    Places* saturated) const {
    const CalibrationSet& c = calibration_;
    raw_->read(region, out, plane);
    for (int y = 0; saturated && y < region.height; ++y) {
        const float* row = out.row(y);
        if (!any_at_least(row, c.saturation, static_cast<std::size_t>(region.width))) continue;
        for (int x = 0; x < region.width; ++x)
            if (row[x] >= c.saturation) saturated->emplace_back(region.x + x, region.y + y);
    }
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
    if (c.prepared) return c.prepared->apply(region, plane, out);
    if (masters) return masters->apply(c, *raw_, region, plane, out);
    // Fewer still, so that what is read of the masters is still at hand when it is used.
    constexpr int kPixels = 4096;
    MasterWindow here(0);
    bool whole = true;
    for_each_few_rows(region, kPixels, [&](const Region& band) {
        whole &= here.apply(c, *raw_, band, plane, out.crop({0, band.y - region.y, band.width, band.height}));
    });
    return whole;
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
        const bool inside = region.contains(r);
        if (!inside) {
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
                if (std::isfinite(value) && (inside || !is_defect(r.x + i, r.y + j))) sound[n++] = value;
            }
        if (n >= 3) return median_in_place(std::span(sound.data(), n));
        if (reach == most && n > 0) return median_in_place(std::span(sound.data(), n));
    }
    return kNoData;
}

void CalibratedView::read(const Region& region, View<float> out, int plane, QualityPlane* quality,
                          MasterWindow* masters) const {
    Places saturated, gaps;
    calibrate(region, out, plane, masters, {quality && calibration_.saturation > 0 ? &saturated : nullptr, &gaps});
    // Replacements are written when all are known, so that none is made from another.
    struct Made {
        int x, y;
        float value;
    };
    std::vector<Made> made;
    const auto replace = [&](int x, int y) { made.push_back({x, y, repaired(x, y, region, out, plane)}); };
    const auto blank = [&](int x, int y) { out(x - region.x, y - region.y) = kNoData; };
    std::array<const DefectList*, 2> lists{calibration_.defects.get(),
                                           calibration_.own ? &calibration_.own->defects : nullptr};
    // Gaps first: what is blanked, so that no neighbour takes it for sound, comes from the lists.
    for (const DefectList* list : lists)
        if (list) list->for_each(region, blank);
    for (const auto& [x, y] : gaps)
        replace(x, y);
    for (const DefectList* list : lists)
        if (list) list->for_each(region, replace);
    if (quality) quality->clear(region.width, region.height);
    for (const auto& [x, y, value] : made) {
        out(x - region.x, y - region.y) = value;
        if (quality) quality->mark(x - region.x, y - region.y, quality::kRepaired);
    }
    if (quality) {
        const auto mark = [&](int x, int y) { quality->mark(x - region.x, y - region.y, quality::kSaturated); };
        for (const auto& [x, y] : saturated)
            if (!is_defect(x, y)) mark(x, y); // hot ones have neighbours' values
        if (calibration_.saturation > 0 && calibration_.own) calibration_.own->spilled.for_each(region, mark);
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

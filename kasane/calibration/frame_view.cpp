#include <kasane/calibration/frame_view.hpp>

#include <kasane/base/units.hpp>
#include <kasane/calibration/master_window.hpp>

#include <algorithm>
#include <array>
#include <random>

namespace kasane {

namespace {

constexpr std::array<std::string_view, 7> kMethodNames = {"adaptive", "bilinear", "binned",  "red",
                                                          "green",    "blue",     "separate"};

bool is_binned(ColourMethod m) {
    return m != ColourMethod::adaptive && m != ColourMethod::bilinear;
}

/// The colour that a single-colour method keeps; -1 where it keeps all.
int single_colour(ColourMethod m) {
    return m == ColourMethod::red ? 0 : m == ColourMethod::green ? 1 : m == ColourMethod::blue ? 2 : -1;
}

Demosaic demosaic_of(ColourMethod m) {
    return m == ColourMethod::bilinear ? Demosaic::bilinear : Demosaic::adaptive;
}

/// Index mirrored into 0..size-1 about the outermost pixels, which keeps the phase of a pattern of period 2.
int mirrored(int i, int size) {
    if (size == 1) return 0;
    const int period = 2 * (size - 1);
    i = ((i % period) + period) % period;
    return i < size ? i : period - i;
}

} // namespace

std::string_view colour_method_name(ColourMethod method) {
    return kMethodNames.at(static_cast<std::size_t>(method));
}

std::optional<ColourMethod> colour_method_named(std::string_view name) {
    const auto it = std::find(kMethodNames.begin(), kMethodNames.end(), name);
    if (it == kMethodNames.end()) return std::nullopt;
    return static_cast<ColourMethod>(it - kMethodNames.begin());
}

FrameView::FrameView(std::shared_ptr<const CalibratedView> source)
    : source_(std::move(source)), planes_(source_->planes()), width_(source_->width()), height_(source_->height()) {}

FrameView::FrameView(std::shared_ptr<const CalibratedView> source, ColourMethod method) : FrameView(std::move(source)) {
    const CfaPattern& cfa = source_->calibration().cfa;
    if (cfa.empty() || source_->planes() != 1) return;
    mosaic_ = true;
    method_ = method;
    planes_ = single_colour(method) >= 0 ? 1 : 3;
    if (!is_binned(method)) {
        sensor_ = std::make_shared<const FrameView>(source_);
        return;
    }
    cell_ = cfa.cell();
    width_ /= cell_;
    height_ /= cell_;
}

std::array<double, 2> FrameView::shift(int plane) const {
    if (!mosaic_ || cell_ == 1) return {0, 0};
    const int one = single_colour(method_);
    return binned_shift(source_->calibration().cfa, one >= 0 ? one : plane);
}

Region FrameView::sensor_region(const Region& r) const {
    const int halo = interpolated() ? demosaic_halo(demosaic_of(method_), source_->calibration().cfa) : 0;
    return {r.x * cell_ - halo, r.y * cell_ - halo, r.width * cell_ + 2 * halo, r.height * cell_ + 2 * halo};
}

void FrameView::read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const {
    read_with(nullptr, region, out, quality);
}

void FrameView::read_parts(const Region& region, std::span<const Region> parts, std::span<const View<float>> out,
                           std::span<QualityPlane> quality, std::unique_ptr<ReadMemory>& memory) const {
    auto* masters = dynamic_cast<MasterWindow*>(memory.get());
    if (!masters) {
        auto fresh = std::make_unique<MasterWindow>();
        masters = fresh.get();
        memory = std::move(fresh);
    }
    masters->surround(intersect(sensor_region(region), source_->bounds()));
    if (parts.size() == 1 && parts.front() == region) {
        read_with(masters, region, out, quality);
        return;
    }
    for (QualityPlane& q : quality)
        q.clear(region.width, region.height);
    std::vector<View<float>> there(out.size());
    std::vector<QualityPlane> found(quality.size());
    for (const Region& part : parts) {
        const int left = part.x - region.x, top = part.y - region.y;
        std::transform(out.begin(), out.end(), there.begin(), [&](const View<float>& v) {
            return v.crop({left, top, part.width, part.height});
        });
        read_with(masters, part, there, found);
        for (std::size_t p = 0; p < found.size(); ++p)
            found[p].for_each([&](int x, int y, quality::Bits bits) { quality[p].mark(left + x, top + y, bits); });
    }
}

void FrameView::read_with(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                          std::span<QualityPlane> quality) const {
    if (!mosaic_) {
        for (std::size_t p = 0; p < static_cast<std::size_t>(planes_); ++p)
            source_->read(region, out[p], static_cast<int>(p), quality.empty() ? nullptr : &quality[p], masters);
        return;
    }
    for (QualityPlane& q : quality)
        q.clear(region.width, region.height);
    if (cell_ == 1)
        read_demosaiced(masters, region, out, quality);
    else
        read_binned(masters, region, out, quality);
}

/// Calibrated sensor pixels of a rectangle that may reach beyond the frame: there they are mirrored (2 x 2 patterns) or
/// absent. `quality` is that of the part inside.
void FrameView::read_mosaic(MasterWindow* masters, const Region& region, View<float> out, QualityPlane* quality) const {
    const Region frame = source_->bounds(), inside = intersect(region, frame);
    const Region at{inside.x - region.x, inside.y - region.y, inside.width, inside.height};
    source_->read(inside, out.crop(at), 0, quality, masters);
    if (inside == region) return;
    const bool mirror = source_->calibration().cfa.period() == 2;
    const auto outside = [&](int x, int y) {
        const int mx = mirrored(region.x + x, frame.width) - region.x,
                  my = mirrored(region.y + y, frame.height) - region.y;
        const bool known = mirror && mx >= at.x && mx < at.right() && my >= at.y && my < at.bottom();
        out(x, y) = known ? out(mx, my) : kNoData;
    };
    for (int y = 0; y < out.height; ++y)
        for (int x = 0; x < out.width; ++x) {
            if (y >= at.y && y < at.bottom() && x == at.x) x = at.right();
            if (x < out.width) outside(x, y);
        }
}

void FrameView::read_demosaiced(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                                std::span<QualityPlane> quality) const {
    const Region wide = sensor_region(region), inside = intersect(wide, source_->bounds());
    std::vector<float> pixels(static_cast<std::size_t>(wide.area()));
    const View<float> mosaic{pixels.data(), wide.width, wide.height, wide.width};
    QualityPlane found;
    read_mosaic(masters, wide, mosaic, quality.empty() ? nullptr : &found);
    const CfaPattern& cfa = source_->calibration().cfa;
    demosaic(mosaic, cfa.shifted(wide.x, wide.y), demosaic_of(method_), {out[0], out[1], out[2]});
    const int reach = std::min(2, demosaic_halo(demosaic_of(method_), cfa)); // no farther than what was read
    found.for_each([&](int i, int j, quality::Bits bits) {
        const int x = inside.x + i, y = inside.y + j;
        if (bits & quality::kSaturated) { // what is made of it, in all colours
            const Region around = intersect({x - reach, y - reach, 2 * reach + 1, 2 * reach + 1}, region);
            for (QualityPlane& q : quality)
                for (int v = around.y; v < around.bottom(); ++v)
                    for (int u = around.x; u < around.right(); ++u)
                        q.mark(u - region.x, v - region.y, quality::kSaturated);
        }
        if (region.contains({x, y, 1, 1}))
            quality[static_cast<std::size_t>(cfa.colour(x, y))].mark(x - region.x, y - region.y, bits);
    });
}

void FrameView::read_binned(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                            std::span<QualityPlane> quality) const {
    const Region wide = sensor_region(region);
    std::vector<float> pixels(static_cast<std::size_t>(wide.area()));
    const View<float> mosaic{pixels.data(), wide.width, wide.height, wide.width};
    QualityPlane found;
    source_->read(wide, mosaic, 0, quality.empty() ? nullptr : &found, masters);
    const CfaPattern& cfa = source_->calibration().cfa;
    const int one = single_colour(method_);
    std::array<View<float>, 3> planes;
    std::vector<float> spare(one >= 0 ? static_cast<std::size_t>(region.area()) : 0);
    for (int c = 0; c < 3; ++c)
        planes[static_cast<std::size_t>(c)] =
            one < 0    ? out[static_cast<std::size_t>(c)]
            : one == c ? out[0]
                       : View<float>{spare.data(), region.width, region.height, region.width};
    bin_mosaic(mosaic, cfa.shifted(wide.x, wide.y), planes);
    found.for_each([&](int x, int y, quality::Bits bits) {
        const int colour = cfa.colour(wide.x + x, wide.y + y);
        if (one >= 0 && colour != one) return;
        quality[static_cast<std::size_t>(one >= 0 ? 0 : colour)].mark(x / cell_, y / cell_, bits);
    });
}

namespace {

/// A sum of uniform numbers, of variance 1.
float nearly_normal(std::mt19937_64& bits) {
    float sum = -6;
    for (int i = 0; i < 12; ++i)
        sum += static_cast<float>(bits() >> 40) * 0x1p-24f;
    return sum;
}

} // namespace

int FrameView::colour(int plane) const {
    const int single = single_colour(method_);
    return mosaic_ && single >= 0 ? single : plane;
}

std::vector<Image> FrameView::white_noise(std::span<const double> noise) const {
    constexpr int kSide = 96, kRealisations = 16; // pixels; variances are known to a hundredth then
    std::vector<Image> fields;
    if (!interpolated()) return fields;
    const CfaPattern& cfa = source_->calibration().cfa;
    const int halo = demosaic_halo(demosaic_of(method_), cfa);
    std::mt19937_64 bits(1);
    for (int k = 0; k < kRealisations; ++k) {
        Image mosaic(kSide + 2 * halo, kSide + 2 * halo), planes(kSide, kSide, 3);
        for (int y = 0; y < mosaic.height(); ++y)
            for (int x = 0; x < mosaic.width(); ++x)
                mosaic(x, y) = static_cast<float>(noise[static_cast<std::size_t>(cfa.colour(x - halo, y - halo))]) *
                               nearly_normal(bits);
        demosaic(mosaic.plane(), cfa.shifted(-halo, -halo), demosaic_of(method_),
                 {planes.plane(0), planes.plane(1), planes.plane(2)});
        for (int p = 0; p < planes.planes(); ++p) {
            const View<float> plane = planes.plane(p);
            const auto unit = static_cast<float>(1 / noise[static_cast<std::size_t>(p)]);
            for (int y = 0; y < kSide; ++y)
                std::transform(plane.row(y), plane.row(y) + kSide, plane.row(y), [&](float v) { return unit * v; });
        }
        fields.push_back(std::move(planes));
    }
    return fields;
}

std::uint64_t FrameView::mapped_bytes(const Region& region) const {
    return source_->mapped_bytes(intersect(sensor_region(region), source_->bounds()));
}

namespace {

std::shared_ptr<const FrameView> view_of(std::shared_ptr<const FrameReader> raw, CalibrationSet set,
                                         ColourMethod method) {
    return std::make_shared<const FrameView>(std::make_shared<const CalibratedView>(std::move(raw), std::move(set)),
                                             method);
}

} // namespace

std::shared_ptr<const FrameView> calibrated_by(const FrameView& view, CalibrationSet calibration) {
    return view_of(view.source().shared_raw(), std::move(calibration), view.method());
}

std::shared_ptr<const FrameView> as_it_came(const FrameView& view) {
    CalibrationSet nothing;
    nothing.cfa = view.source().calibration().cfa;
    return calibrated_by(view, std::move(nothing));
}

std::shared_ptr<const FrameView> with_raw(const FrameView& view, std::shared_ptr<const FrameReader> raw) {
    return view_of(std::move(raw), view.source().calibration(), view.method());
}

} // namespace kasane

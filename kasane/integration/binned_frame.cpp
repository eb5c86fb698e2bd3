#include <kasane/integration/binned_frame.hpp>

#include <kasane/image/binning.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Means over squares of pixels of another source.
class BinnedPlanes final : public PlaneSource {
public:
    BinnedPlanes(std::shared_ptr<const PlaneSource> source, int factor) : source_(std::move(source)), factor_(factor) {}
    int planes() const override { return source_->planes(); }
    int width() const override { return source_->width() / factor_; }
    int height() const override { return source_->height() / factor_; }
    const std::filesystem::path& path() const override { return source_->path(); }
    std::array<double, 2> shift(int plane) const override {
        const auto [x, y] = source_->shift(plane);
        return {x / factor_, y / factor_};
    }

    void read(const Region& region, std::span<const View<float>> out, std::span<QualityPlane> quality) const override {
        const Region fine = below(region);
        Image pixels(fine.width, fine.height, planes());
        std::vector<View<float>> views;
        for (int p = 0; p < planes(); ++p)
            views.push_back(pixels.plane(p));
        std::vector<QualityPlane> bits(quality.size());
        source_->read(fine, views, bits);
        for (std::size_t p = 0; p < out.size(); ++p)
            average_down(views[p], factor_, out[p]);
        for (std::size_t p = 0; p < quality.size(); ++p)
            tell(bits[p], region, quality[p]);
    }

    /// Of unit variance a mean, as `noise` of the frame is told of one.
    std::vector<Image> white_noise(std::span<const double> noise) const override {
        std::vector<Image> out;
        for (const Image& fine : source_->white_noise(noise)) {
            Image binned(fine.width() / factor_, fine.height() / factor_, fine.planes());
            for (int p = 0; p < fine.planes(); ++p)
                average_down(fine.plane(p), factor_, binned.plane(p));
            for (float& v : binned.pixels())
                v *= static_cast<float>(factor_);
            out.push_back(std::move(binned));
        }
        return out;
    }
    void release() const override { source_->release(); }
    std::uint64_t mapped_bytes(const Region& region) const override { return source_->mapped_bytes(below(region)); }

private:
    Region below(const Region& r) const {
        return {r.x * factor_, r.y * factor_, r.width * factor_, r.height * factor_};
    }

    /// A mean has the bits that more than half of its pixels have; it is saturated if one of them is.
    void tell(const QualityPlane& fine, const Region& region, QualityPlane& out) const {
        out.clear(region.width, region.height);
        if (!fine.any()) return;
        std::vector<std::uint16_t> marked(static_cast<std::size_t>(region.area()));
        fine.for_each([&](int x, int y, quality::Bits bits) {
            auto& n = marked[static_cast<std::size_t>(y / factor_) * static_cast<std::size_t>(region.width) +
                             static_cast<std::size_t>(x / factor_)];
            if (bits & quality::kSaturated) out.mark(x / factor_, y / factor_, quality::kSaturated);
            if (2 * ++n > factor_ * factor_) out.mark(x / factor_, y / factor_, bits);
        });
    }

    std::shared_ptr<const PlaneSource> source_;
    int factor_;
};

/// To squares of `k` pixels of the frame.
Transform scaled_down(const Transform& t, int k) {
    const double f = 1.0 / k;
    std::array<double, 9> m = t.projective();
    for (std::size_t i = 0; i < 6; ++i)
        m[i] *= f;
    std::shared_ptr<const Lens> lens;
    if (t.lens()) {
        Lens small = *t.lens();
        small.centre = {small.centre.x * f, small.centre.y * f};
        small.radius *= f;
        small.stereographic *= f;
        lens = std::make_shared<const Lens>(small);
    }
    return Transform(m, lens, t.canvas_lens())
        .after(t.canvas())
        .shifted(t.shift().x * f - 0.5 * (k - 1) * f, t.shift().y * f - 0.5 * (k - 1) * f);
}

} // namespace

StackFrame binned_to_canvas(StackFrame frame) {
    if (frame.planes.empty() || !frame.source) return frame;
    const double side =
        std::sqrt(pixel_density(frame.planes.front().to_frame, frame.source->width(), frame.source->height()));
    if (!(side >= 1.5) || !std::isfinite(side)) return frame;
    constexpr double kMost = 16;
    const int k = static_cast<int>(std::lround(std::min(side, kMost)));
    if (frame.source->width() < 2 * k || frame.source->height() < 2 * k) return frame;
    frame.source = std::make_shared<const BinnedPlanes>(frame.source, k);
    for (StackPlane& p : frame.planes) {
        p.to_frame = scaled_down(p.to_frame, k);
        p.noise /= k;
        p.fwhm /= k;
        p.misplaced /= k;
    }
    const auto down = [&](double v) { return (v + 0.5) / k - 0.5; };
    for (Streak& s : frame.streaks)
        s = {down(s.x0), down(s.y0), down(s.x1), down(s.y1), s.half_width / k};
    for (Disc& d : frame.covered)
        d = {down(d.x), down(d.y), d.radius / k};
    for (Region& r : frame.burnt)
        r = {r.x / k, r.y / k, r.width / k + 1, r.height / k + 1};
    frame.electrons_per_adu *= k * k;
    return frame;
}

} // namespace kasane

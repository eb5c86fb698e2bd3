#include <kasane/integration/growing_stack.hpp>

#include <kasane/image/robust_fit.hpp>
#include <kasane/integration/binned_frame.hpp>
#include <kasane/integration/resampler.hpp>
#include <kasane/integration/streak_mask.hpp>

#include <cmath>
#include <limits>

namespace kasane {

namespace {

constexpr int kBand = 64;      // rows at a time
constexpr int kPlaces = 24;    // along the longer side, where skies are compared
constexpr double kRinging = 8; // as IntegrateOptions
constexpr float kNothing = std::numeric_limits<float>::quiet_NaN();

} // namespace

GrowingStack::GrowingStack(Canvas canvas, int planes)
    : canvas_(canvas), first_(canvas.width, canvas.height, planes, kNothing), sum_(canvas.width, canvas.height, planes),
      weight_(canvas.width, canvas.height, planes) {}

Image GrowingStack::on_canvas(const StackFrame& frame, const Workers& workers) const {
    const StackFrame small = binned_to_canvas(frame);
    Image out(canvas_.width, canvas_.height, static_cast<int>(small.planes.size()), kNothing);
    const auto bands = static_cast<std::size_t>((canvas_.height + kBand - 1) / kBand);
    workers.for_each(bands, [&](std::size_t b) {
        const int y = static_cast<int>(b) * kBand;
        const Region region{0, y, canvas_.width, std::min(kBand, canvas_.height - y)};
        std::vector<View<float>> views;
        for (int p = 0; p < out.planes(); ++p)
            views.push_back(out.plane(p).crop(region));
        Resampler resampler;
        resampler.resample(small, region, kRinging, views);
        std::vector<std::uint32_t> hidden;
        for (std::size_t p = 0; p < views.size(); ++p) {
            samples_under_streaks(small, p, region, hidden);
            for (const std::uint32_t place : hidden)
                views[p](static_cast<int>(place) % region.width, static_cast<int>(place) / region.width) = kNothing;
        }
    });
    frame.source->release();
    return out;
}

GrowingStack::Level GrowingStack::level_of(View<const float> samples, int plane, double scale) const {
    Level level;
    level.scale = scale;
    const View<const float> first = first_.plane(plane);
    const int side = std::max(4, std::max(canvas_.width, canvas_.height) / kPlaces);
    const Point middle = canvas_.centre();
    std::vector<Equation<3>> equations;
    std::vector<float> differences;
    std::size_t shown = 0; // squares that the frame shows
    for (int y = 0; y + side <= canvas_.height; y += side)
        for (int x = 0; x + side <= canvas_.width; x += side) {
            differences.clear();
            std::size_t seen = 0;
            const std::size_t half_of_it = static_cast<std::size_t>(side) * static_cast<std::size_t>(side) / 2;
            for (int j = y; j < y + side; ++j)
                for (int i = x; i < x + side; ++i) {
                    const float d = first(i, j) - static_cast<float>(scale) * samples(i, j);
                    seen += std::isfinite(samples(i, j));
                    if (std::isfinite(d)) differences.push_back(d);
                }
            shown += seen > half_of_it;
            if (differences.size() <= half_of_it) continue;
            const double half = 0.5 * (side - 1);
            equations.push_back({{1, x + half - middle.x, y + half - middle.y}, median_in_place(differences), 1});
        }
    constexpr std::size_t kLeastForSlopes = 12;
    if (equations.size() >= kLeastForSlopes &&
        2 * equations.size() >= shown) { // a strip tells nothing of what is beyond
        const Eigen::Vector3d fit = robust_fit(equations);
        if (fit.allFinite()) {
            level.sky = {fit[0], fit[1], fit[2]};
            return level;
        }
    }
    std::vector<float> values;
    for (const auto& e : equations)
        values.push_back(static_cast<float>(e.value));
    if (!values.empty()) level.sky[0] = median_in_place(values);
    return level;
}

void GrowingStack::take(const Image& samples, const Member& member, double sign) {
    const Point middle = canvas_.centre();
    for (int p = 0; p < samples.planes(); ++p) {
        const Level& l = member.levels[static_cast<std::size_t>(p)];
        for (int y = 0; y < canvas_.height; ++y)
            for (int x = 0; x < canvas_.width; ++x) {
                const double v = samples.plane(p)(x, y);
                if (!std::isfinite(v)) continue;
                sum_.plane(p)(x, y) += sign * member.weight * l.at(v, x, y, middle);
                weight_.plane(p)(x, y) += sign * member.weight;
            }
    }
}

void GrowingStack::add(const std::string& name, const StackFrame& frame, double weight, const Workers& workers) {
    if (has(name) || !(weight > 0) || static_cast<int>(frame.planes.size()) != sum_.planes()) return;
    const Image samples = on_canvas(frame, workers);
    Member member;
    member.weight = weight;
    for (std::size_t p = 0; p < frame.planes.size(); ++p) {
        const double scale = frame.planes[p].level.scale.value;
        member.levels.push_back(level_of(samples.plane(static_cast<int>(p)), static_cast<int>(p), scale));
    }
    take(samples, member, 1);
    for (int p = 0; p < first_.planes(); ++p) { // what nothing has shown yet goes on at this level
        const Level& l = member.levels[static_cast<std::size_t>(p)];
        for (int y = 0; y < canvas_.height; ++y)
            for (int x = 0; x < canvas_.width; ++x)
                if (float& f = first_.plane(p)(x, y); !std::isfinite(f))
                    f = static_cast<float>(l.at(samples.plane(p)(x, y), x, y, canvas_.centre()));
    }
    member.frame = frame;
    member.frame.source = nullptr;
    members_.emplace(name, std::move(member));
}

void GrowingStack::remove(const std::string& name, std::shared_ptr<const PlaneSource> pixels, const Workers& workers) {
    const auto it = members_.find(name);
    if (it == members_.end()) return;
    StackFrame frame = it->second.frame;
    frame.source = std::move(pixels);
    take(on_canvas(frame, workers), it->second, -1);
    members_.erase(it);
}

std::vector<std::string> GrowingStack::names() const {
    std::vector<std::string> out;
    for (const auto& [name, member] : members_)
        out.push_back(name);
    return out;
}

Image GrowingStack::picture() const {
    Image out(canvas_.width, canvas_.height, sum_.planes(), kNothing);
    // What was taken out again leaves rounding, no weight.
    constexpr double kNoWeight = 1e-9;
    double most = 0;
    for (const auto& [name, member] : members_)
        most = std::max(most, member.weight);
    for (int p = 0; p < out.planes(); ++p)
        for (int y = 0; y < out.height(); ++y)
            for (int x = 0; x < out.width(); ++x)
                if (const double w = weight_.plane(p)(x, y); w > kNoWeight * most && most > 0)
                    out.plane(p)(x, y) = static_cast<float>(sum_.plane(p)(x, y) / w);
    return out;
}

} // namespace kasane

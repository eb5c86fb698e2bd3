// Simulated projects on disk for measurements, and their truth.
#pragma once

#include <algorithm>
#include <chrono>
#include <cmath>
#include <kasane/base/parallel.hpp>
#include <kasane/geometry/affine.hpp>
#include <kasane/image/image.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/sky/scenario.hpp>
#include <limits>
#include <vector>

#include <cstdlib>
#include <filesystem>
#include <string>

namespace kasane::bench {

/// How long that takes.
template <class Work>
double seconds_of(Work work) {
    const auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

/// A folder that goes with its owner, in $TMPDIR.
class TemporaryFolder {
public:
    TemporaryFolder() {
        std::string pattern = (std::filesystem::temp_directory_path() / "kasane-XXXXXX").string();
        if (!mkdtemp(pattern.data())) throw std::runtime_error("no temporary folder can be made");
        path_ = pattern;
    }
    ~TemporaryFolder() {
        std::error_code ignored;
        std::filesystem::remove_all(path_, ignored);
    }
    TemporaryFolder(const TemporaryFolder&) = delete;
    TemporaryFolder& operator=(const TemporaryFolder&) = delete;
    const std::filesystem::path& path() const { return path_; }

private:
    std::filesystem::path path_;
};

/// The lights of a scenario, in order.
inline std::vector<const sky::Shot*> lights_of(const sky::Scenario& s) {
    std::vector<const sky::Shot*> out;
    for (const sky::Shot& shot : s.shots)
        if (shot.role == sky::Shot::Role::light) out.push_back(&shot);
    return out;
}

/// From scene positions to a light's pixels.
inline Affine true_transform(const sky::Scenario& s, const sky::Shot& light) {
    const auto m = sky::scene_to_pixel(light.conditions.pointing, s.instrument.width, s.instrument.height);
    return {m[0], m[1], m[2], m[3], m[4], m[5]};
}

/// Flux in a soft-edged circle over the level of a ring around it; NaN where that reaches beyond the image.
inline double aperture_flux(View<const float> image, double cx, double cy, double radius) {
    double sum = 0, area = 0;
    std::vector<float> ring;
    for (int y = static_cast<int>(cy - 2.5 * radius); y <= static_cast<int>(cy + 2.5 * radius); ++y)
        for (int x = static_cast<int>(cx - 2.5 * radius); x <= static_cast<int>(cx + 2.5 * radius); ++x) {
            if (x < 0 || y < 0 || x >= image.width || y >= image.height)
                return std::numeric_limits<double>::quiet_NaN();
            const double d = std::hypot(x - cx, y - cy);
            const double share = std::clamp(radius + 0.5 - d, 0.0, 1.0);
            sum += share * image(x, y);
            area += share;
            if (d > 1.6 * radius && d < 2.5 * radius) ring.push_back(image(x, y));
        }
    return sum - area * clipped_statistics(ring, 2.5f).location;
}

} // namespace kasane::bench

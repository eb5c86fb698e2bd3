#include <kasane/stages/zero_point.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/reader.hpp>

#include <cmath>
#include <vector>

namespace kasane {

std::optional<double> zero_point_of(const Session& session, const Assembly& assembly, const Canvas& canvas) {
    constexpr double kMost = 60;       // magnitudes; beyond is no zero point
    constexpr double kSameArea = 0.02; // of pixels
    std::vector<float> found;
    for (std::size_t k = 0; k < assembly.lights.size(); ++k) {
        const Light& light = *assembly.lights[k];
        const double factor = assembly.frames[k].planes.front().level.scale.value;
        if (!light.exposure->cfa.empty() || std::abs(density_of(light) - 1) > kSameArea || !(factor > 0)) continue;
        std::optional<double> own;
        (void)attempt([&] {
            own = read_summary(session.path_of(light.plan->exposure))
                      .header.number({"MAGZERO", "MAGZPT", "MAGZP", "PHOTZP", "ZEROPNT"});
        });
        // The flux of a star grows with the factor, and with the pixels that show it.
        if (own && std::abs(*own) < kMost && *own != 0)
            found.push_back(static_cast<float>(*own + 2.5 * std::log10(factor * canvas.scale * canvas.scale)));
    }
    if (found.empty()) return std::nullopt;
    return median_in_place(found);
}

} // namespace kasane

#include <kasane/registration/panels.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

std::vector<int> panels_of(const std::vector<PanelFrame>& frames) {
    std::vector<Point> middles; // on the common grid
    for (const PanelFrame& f : frames)
        middles.push_back(f.to_frame.unmap({0.5 * (f.width - 1), 0.5 * (f.height - 1)}));
    std::vector<std::size_t> leads(frames.size());
    std::iota(leads.begin(), leads.end(), std::size_t{0});
    const auto root = [&](std::size_t i) {
        while (leads[i] != i)
            i = leads[i] = leads[leads[i]];
        return i;
    };
    const auto near = [&](std::size_t i, std::size_t j) { // the middle of i in j
        constexpr double kNear = 0.25;
        const PanelFrame& f = frames[j];
        const Point p = f.to_frame.map(middles[i]);
        return std::abs(p.x - 0.5 * (f.width - 1)) < kNear * f.width &&
               std::abs(p.y - 0.5 * (f.height - 1)) < kNear * f.height;
    };
    for (std::size_t i = 0; i < frames.size(); ++i)
        for (std::size_t k = i; k-- > 0;) // neighbours in order are mostly of one panel
            if (root(i) != root(k) && (near(i, k) || near(k, i))) {
                const std::size_t a = root(i), b = root(k);
                leads[std::max(a, b)] = std::min(a, b);
            }
    std::vector<int> out(frames.size()), number(frames.size(), -1);
    int next = 0;
    for (std::size_t i = 0; i < frames.size(); ++i) {
        int& n = number[root(i)];
        if (n < 0) n = next++;
        out[i] = n;
    }
    return out;
}

int count_panels(const std::vector<int>& panels) {
    return panels.empty() ? 0 : 1 + *std::max_element(panels.begin(), panels.end());
}

} // namespace kasane

#include <kasane/grading/landscape.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr int kAcross = 24, kDown = 16;

struct Squares {
    int count[kDown][kAcross] = {};
    bool empty[kDown][kAcross] = {};
};

/// Empty squares in a row from an edge inwards: along the edge, how many of each line.
template <class Empty>
std::vector<int> depths(int along, int inwards, Empty empty) {
    std::vector<int> out;
    for (int i = 0; i < along; ++i) {
        int depth = 0;
        while (depth < inwards && empty(i, depth))
            ++depth;
        out.push_back(depth);
    }
    return out;
}

} // namespace

LandscapeGuess guess_landscape(const std::vector<const std::vector<Star>*>& frames, int width, int height) {
    LandscapeGuess out;
    if (width <= 0 || height <= 0) return out;
    Squares s;
    std::size_t total = 0;
    for (const auto* stars : frames)
        for (const Star& star : *stars) {
            const int x = std::clamp(static_cast<int>(star.x / width * kAcross), 0, kAcross - 1),
                      y = std::clamp(static_cast<int>(star.y / height * kDown), 0, kDown - 1);
            ++s.count[y][x];
            ++total;
        }
    std::vector<float> shown;
    for (const auto& row : s.count)
        for (const int n : row)
            if (n > 0) shown.push_back(static_cast<float>(n));
    constexpr float kEnough = 12; // by chance such a square is empty once in 160 000
    constexpr std::size_t kFrames = 4;
    if (shown.empty() || frames.size() < kFrames) return out;
    const float usual = median_in_place(shown);
    if (usual < kEnough) return out;
    for (int y = 0; y < kDown; ++y)
        for (int x = 0; x < kAcross; ++x)
            s.empty[y][x] = static_cast<float>(s.count[y][x]) < 0.02f * usual;

    const double w = static_cast<double>(width) / kAcross, h = static_cast<double>(height) / kDown;
    int hidden = 0;
    // From below, above, left, right: the edge's own line, then the depths back.
    for (const int edge : {0, 1, 2, 3}) {
        const bool upright = edge < 2;
        const int along = upright ? kAcross : kDown, inwards = upright ? kDown : kAcross;
        const auto empty = [&](int i, int k) -> bool& { // along the edge, inwards
            const int x = upright     ? i
                          : edge == 2 ? k
                                      : kAcross - 1 - k,
                      y = !upright    ? i
                          : edge == 0 ? kDown - 1 - k
                                      : k;
            return s.empty[y][x];
        };
        const auto d = depths(along, inwards, empty);
        int squares = 0;
        for (const int depth : d)
            squares += depth;
        constexpr double kLeast = 0.04, kMost = 0.7; // of the frame
        if (squares < kLeast * kAcross * kDown) continue;
        if (squares > kMost * kAcross * kDown) return {};
        for (int i = 0; i < along; ++i)
            for (int k = 0; k < d[static_cast<std::size_t>(i)]; ++k)
                empty(i, k) = false; // a corner belongs to one edge
        Polygon p;
        const auto corner = [&](double i, double k) { // along the edge, inwards
            if (edge == 0) p.emplace_back(i * w - 0.5, height - 0.5 - k * h);
            if (edge == 1) p.emplace_back(i * w - 0.5, k * h - 0.5);
            if (edge == 2) p.emplace_back(k * w - 0.5, i * h - 0.5);
            if (edge == 3) p.emplace_back(width - 0.5 - k * w, i * h - 0.5);
        };
        corner(0, 0);
        for (int i = 0; i < along; ++i) {
            const int depth = d[static_cast<std::size_t>(i)];
            if (i == 0 || d[static_cast<std::size_t>(i - 1)] != depth) {
                corner(i, depth);
            }
            if (i + 1 == along || d[static_cast<std::size_t>(i + 1)] != depth) corner(i + 1, depth);
        }
        corner(along, 0);
        out.hidden.push_back(std::move(p));
        hidden += squares;
    }
    out.share = static_cast<double>(hidden) / (kAcross * kDown);
    return out;
}

} // namespace kasane

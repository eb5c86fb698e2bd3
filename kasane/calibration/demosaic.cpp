#include <kasane/calibration/demosaic.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

namespace {

constexpr int kBilinearReach = 1;
constexpr int kWideReach = 2; // 6 x 6 patterns: some colour is three pixels apart
// 2 for green, 2 + 2 for the decision between directions, 1 and a spare for differences.
constexpr int kDirectedHalo = 6;
constexpr int kFluxReach = 4; // of the smoothing by which fluxes are compared
constexpr int kAdaptiveHalo = kDirectedHalo + kFluxReach;

/// Weights of the neighbours by distance; same-colour means with these are the bilinear interpolation of the 2 x 2
/// patterns, and their like for others.
float neighbour_weight(int i, int j, int reach) {
    const int d = std::abs(i) + std::abs(j);
    if (reach == kBilinearReach) return d == 2 ? 1.0f : 2.0f;
    return 1.0f / static_cast<float>(i * i + j * j);
}

struct Neighbour {
    int x, y;
    float weight;
};

/// Every phase of the pattern has its own lists: for each colour the neighbours that show it.
class NeighbourTable {
public:
    NeighbourTable(const CfaPattern& cfa, int reach) : period_(cfa.period()) {
        lists_.resize(static_cast<std::size_t>(period_ * period_ * 3));
        for (int y = 0; y < period_; ++y)
            for (int x = 0; x < period_; ++x)
                for (int j = -reach; j <= reach; ++j)
                    for (int i = -reach; i <= reach; ++i) {
                        if (i == 0 && j == 0) continue;
                        auto& list = lists_[index(x, y, cfa.colour(x + i, y + j))];
                        list.push_back({i, j, neighbour_weight(i, j, reach)});
                    }
        if (reach == kBilinearReach) // only the nearest kind: never diagonal neighbours beside adjacent ones
            for (auto& list : lists_) {
                const bool adjacent =
                    std::any_of(list.begin(), list.end(), [](const Neighbour& n) { return n.weight > 1.5f; });
                if (adjacent) std::erase_if(list, [](const Neighbour& n) { return n.weight < 1.5f; });
            }
    }
    const std::vector<Neighbour>& at(int x, int y, int colour) const {
        return lists_[index(x % period_, y % period_, colour)];
    }

private:
    std::size_t index(int x, int y, int colour) const {
        return static_cast<std::size_t>((y * period_ + x) * 3 + colour);
    }
    int period_;
    std::vector<std::vector<Neighbour>> lists_;
};

float weighted_mean(View<const float> v, int x, int y, const std::vector<Neighbour>& list) {
    float sum = 0, weights = 0;
    for (const Neighbour& n : list) {
        const float value = v(x + n.x, y + n.y);
        if (value == value) {
            sum += n.weight * value;
            weights += n.weight;
        }
    }
    return weights > 0 ? sum / weights : kNoData;
}

void bilinear(View<const float> mosaic, const CfaPattern& cfa, int halo, const std::array<View<float>, 3>& planes) {
    const int reach = cfa.period() == 2 ? kBilinearReach : kWideReach;
    const NeighbourTable table(cfa, reach);
    const int width = planes[0].width, height = planes[0].height;
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const int mx = x + halo, my = y + halo, own = cfa.colour(mx, my);
            for (int c = 0; c < 3; ++c) {
                const float v = c == own ? mosaic(mx, my) : kNoData;
                planes[static_cast<std::size_t>(c)](x, y) =
                    v == v ? v : weighted_mean(mosaic, mx, my, table.at(mx, my, c));
            }
        }
}

/// Buffers of the adaptive method, kept by the thread between tiles.
struct Scratch {
    Image filled;             // the mosaic without gaps
    Image green_h, green_v;   // green by each direction
    Image chroma_h, chroma_v; // own colour less green, at red and blue sites; 0 at green ones
    Image decide_h, decide_v; // how much they change
    Image green;
    void resize(int w, int h) {
        for (Image* i : {&filled, &green_h, &green_v, &chroma_h, &chroma_v, &decide_h, &decide_v, &green})
            if (i->width() != w || i->height() != h) *i = Image(w, h);
    }
};

/// Values without data replaced by the mean of their colour around; 0 where there is none.
void fill_gaps(View<const float> mosaic, const CfaPattern& cfa, Image& out) {
    for (int y = 0; y < mosaic.height; ++y)
        std::copy_n(mosaic.row(y), mosaic.width, out.plane().row(y));
    for (int y = 0; y < mosaic.height; ++y)
        for (int x = 0; x < mosaic.width; ++x) {
            const float v = mosaic(x, y);
            if (v == v) continue;
            const int own = cfa.colour(x, y);
            float sum = 0;
            int n = 0;
            for (int j = std::max(0, y - 2); j <= std::min(mosaic.height - 1, y + 2); ++j)
                for (int i = std::max(0, x - 2); i <= std::min(mosaic.width - 1, x + 2); ++i)
                    if (cfa.colour(i, j) == own && mosaic(i, j) == mosaic(i, j)) {
                        sum += mosaic(i, j);
                        ++n;
                    }
            out(x, y) = n ? sum / static_cast<float>(n) : 0;
        }
}

/// How much the colour differences change around each pixel along one direction (the paper's classifier): absolute
/// differences over two pixels, summed over the 5 x 5 neighbourhood that looks the same way.
void sum_changes(const Image& chroma, bool horizontal, Image& change, Image& out) {
    const int w = chroma.width(), h = chroma.height();
    const View<const float> c = chroma.plane();
    const View<float> d = change.plane();
    const int dx = horizontal ? 2 : 0, dy = horizontal ? 0 : 2;
    for (int y = 0; y < h; ++y) {
        float* to = d.row(y);
        if (y + dy >= h) {
            std::fill_n(to, w, 0.0f);
            continue;
        }
        const float* a = c.row(y);
        const float* b = c.row(y + dy) + dx;
        for (int x = 0; x < w - dx; ++x)
            to[x] = std::abs(a[x] - b[x]);
        std::fill(to + (w - dx), to + w, 0.0f);
    }
    const View<const float> k = change.plane();
    for (int y = 2; y < h - 2; ++y) {
        float* to = out.plane().row(y);
        const auto at = [&](int i, int j) { return k.row(y + j) + i; };
        // The paper's kernel, turned so that both differences that begin and end beside the pixel count: (0, 0) and
        // (-2, 0) three times, the rows one and two pixels away once.
        if (horizontal)
            for (int x = 2; x < w - 2; ++x)
                to[x] = 3 * (at(0, 0)[x] + at(-2, 0)[x]) + at(0, -2)[x] + at(-2, -2)[x] + at(0, 2)[x] + at(-2, 2)[x] +
                        at(-1, -1)[x] + at(-1, 1)[x];
        else
            for (int x = 2; x < w - 2; ++x)
                to[x] = 3 * (at(0, 0)[x] + at(0, -2)[x]) + at(-2, 0)[x] + at(-2, -2)[x] + at(2, 0)[x] + at(2, -2)[x] +
                        at(-1, -1)[x] + at(1, -1)[x];
    }
}

void directed(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
    thread_local Scratch s;
    const int w = mosaic.width, h = mosaic.height, halo = kDirectedHalo;
    s.resize(w, h);
    fill_gaps(mosaic, cfa, s.filled);
    const View<const float> m = s.filled.plane();

    // Green along each direction: the mean of the neighbours, and the curvature of the pixel's own colour.
    for (int y = 2; y < h - 2; ++y) {
        const float* row = m.row(y);
        const float *up = m.row(y - 1), *down = m.row(y + 1), *up2 = m.row(y - 2), *down2 = m.row(y + 2);
        float *gh = s.green_h.plane().row(y), *gv = s.green_v.plane().row(y);
        float *ch = s.chroma_h.plane().row(y), *cv = s.chroma_v.plane().row(y);
        for (int x = 2; x < w - 2; ++x) {
            const float v = row[x];
            gh[x] = 0.5f * (row[x - 1] + row[x + 1]) + 0.25f * (2 * v - row[x - 2] - row[x + 2]);
            gv[x] = 0.5f * (up[x] + down[x]) + 0.25f * (2 * v - up2[x] - down2[x]);
            ch[x] = v - gh[x];
            cv[x] = v - gv[x];
        }
        for (int x = 2 + (cfa.colour(2, y) != 1); x < w - 2; x += 2) {
            gh[x] = gv[x] = row[x];
            ch[x] = cv[x] = 0;
        }
    }
    sum_changes(s.chroma_h, true, s.green, s.decide_h);
    sum_changes(s.chroma_v, false, s.green, s.decide_v);
    const View<float> green = s.green.plane();
    for (int y = 4; y < h - 4; ++y) {
        const float *dh = s.decide_h.plane().row(y), *dv = s.decide_v.plane().row(y);
        const float *gh = s.green_h.plane().row(y), *gv = s.green_v.plane().row(y);
        float* to = green.row(y);
        for (int x = 4; x < w - 4; ++x)
            to[x] = dv[x] >= dh[x] ? gh[x] : gv[x];
    }

    // Red and blue through their differences to green, bilinearly.
    const int width = planes[0].width, height = planes[0].height;
    for (int y = 0; y < height; ++y) {
        const int my = y + halo;
        const float* g = green.row(my);
        std::copy_n(g + halo, width, planes[1].row(y));
        const auto difference = [&](int x, int j) { return m(x, my + j) - green(x, my + j); };
        for (const int c : {0, 2}) {
            float* to = planes[static_cast<std::size_t>(c)].row(y);
            const bool in_row = cfa.colour(0, my) == c || cfa.colour(1, my) == c;
            for (int x = 0; x < width; ++x) {
                const int mx = x + halo, own = cfa.colour(mx, my);
                float d = 0;
                if (own == c) {
                    to[x] = m(mx, my);
                    continue;
                }
                if (own == 1)
                    d = in_row ? 0.5f * (difference(mx - 1, 0) + difference(mx + 1, 0))
                               : 0.5f * (difference(mx, -1) + difference(mx, 1));
                else
                    d = 0.25f * (difference(mx - 1, -1) + difference(mx + 1, -1) + difference(mx - 1, 1) +
                                 difference(mx + 1, 1));
                to[x] = g[mx] + d;
            }
        }
    }
    // What had no data has none, unless its neighbours gave it some.
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const int mx = x + halo, my = y + halo;
            if (mosaic(mx, my) == mosaic(mx, my)) continue;
            bool any = false;
            for (int j = -2; j <= 2; ++j)
                for (int i = -2; i <= 2; ++i)
                    any = any || mosaic(mx + i, my + j) == mosaic(mx + i, my + j);
            if (!any)
                for (const auto& p : planes)
                    p(x, y) = kNoData;
        }
}

/// Sums over 5 pixels along each row of `v`, written 2 pixels further in.
void smooth_rows(View<const float> v, View<float> out) {
    for (int y = 0; y < v.height; ++y) {
        const float* from = v.row(y);
        float* to = out.row(y);
        for (int x = 2; x < v.width - 2; ++x)
            to[x] = 0.2f * (from[x - 2] + from[x - 1] + from[x] + from[x + 1] + from[x + 2]);
    }
}

void smooth_columns(View<const float> v, View<float> out) {
    for (int y = 2; y < v.height - 2; ++y) {
        const float *a = v.row(y - 2), *b = v.row(y - 1), *c = v.row(y), *d = v.row(y + 1), *e = v.row(y + 2);
        float* to = out.row(y);
        for (int x = 0; x < v.width; ++x)
            to[x] = 0.2f * (a[x] + b[x] + c[x] + d[x] + e[x]);
    }
}

/// The directed interpolation takes what colours share for granted, and so draws the fluxes of strongly coloured stars
/// towards grey. The bilinear one keeps every flux. Their difference, smoothed over a star's size, is given back to the
/// interpolated pixels: detail from the one, fluxes from the other.
void adaptive(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
    const int w = planes[0].width + 2 * kFluxReach, h = planes[0].height + 2 * kFluxReach;
    thread_local Image fine, even, smooth;
    for (Image* i : {&fine, &even, &smooth})
        if (i->width() != w || i->height() != h) *i = Image(w, h, 3);
    directed(mosaic, cfa, {fine.plane(0), fine.plane(1), fine.plane(2)});
    const int skip = kDirectedHalo - kBilinearReach;
    const Region inner{skip, skip, mosaic.width - 2 * skip, mosaic.height - 2 * skip};
    bilinear(mosaic.crop(inner), cfa.shifted(skip, skip), kBilinearReach,
             {even.plane(0), even.plane(1), even.plane(2)});
    const CfaPattern phase = cfa.shifted(kDirectedHalo, kDirectedHalo);
    for (int c = 0; c < 3; ++c) {
        const View<float> e = even.plane(c), t = smooth.plane(c);
        const View<const float> f = fine.plane(c);
        for (int y = 0; y < h; ++y)
            for (int x = 0; x < w; ++x) {
                const float d = e(x, y) - f(x, y);
                e(x, y) = d == d ? d : 0;
            }
        smooth_rows(e, t);
        smooth_rows(t, e); // reach 4
        smooth_columns(e, t);
        smooth_columns(t, e);
        const float share = c == 1 ? 2.0f : 4.0f / 3; // one over the share of interpolated pixels
        const View<float> out = planes[static_cast<std::size_t>(c)];
        for (int y = 0; y < out.height; ++y)
            for (int x = 0; x < out.width; ++x) {
                const int i = x + kFluxReach, j = y + kFluxReach;
                out(x, y) = f(i, j) + (phase.colour(i, j) == c ? 0.0f : share * e(i, j));
            }
    }
}

} // namespace

int demosaic_halo(Demosaic method, const CfaPattern& cfa) {
    if (cfa.period() == 6) return kWideReach;
    return method == Demosaic::bilinear ? kBilinearReach : kAdaptiveHalo;
}

void demosaic(View<const float> mosaic, const CfaPattern& phase, Demosaic method,
              const std::array<View<float>, 3>& planes) {
    if (method == Demosaic::adaptive && phase.period() == 2)
        adaptive(mosaic, phase, planes);
    else
        bilinear(mosaic, phase, demosaic_halo(method, phase), planes);
}

void bin_mosaic(View<const float> mosaic, const CfaPattern& phase, const std::array<View<float>, 3>& planes) {
    const int cell = phase.cell();
    for (int y = 0; y < planes[0].height; ++y)
        for (int x = 0; x < planes[0].width; ++x) {
            std::array<float, 3> sum{}, n{};
            for (int j = 0; j < cell; ++j)
                for (int i = 0; i < cell; ++i) {
                    const float v = mosaic(x * cell + i, y * cell + j);
                    const auto c = static_cast<std::size_t>(phase.colour(x * cell + i, y * cell + j));
                    if (v == v) {
                        sum[c] += v;
                        n[c] += 1;
                    }
                }
            for (std::size_t c = 0; c < 3; ++c)
                planes[c](x, y) = n[c] > 0 ? sum[c] / n[c] : kNoData;
        }
}

std::array<double, 2> binned_shift(const CfaPattern& cfa, int colour) {
    // Averaged over the squares of the whole pattern: in 6 x 6 patterns they differ.
    double x = 0, y = 0;
    int n = 0;
    for (int j = 0; j < cfa.period(); ++j)
        for (int i = 0; i < cfa.period(); ++i)
            if (cfa.colour(i, j) == colour) {
                x += i % cfa.cell();
                y += j % cfa.cell();
                ++n;
            }
    const double middle = 0.5 * (cfa.cell() - 1);
    return {(x / n - middle) / cfa.cell(), (y / n - middle) / cfa.cell()};
}

} // namespace kasane

#include <kasane/calibration/demosaic.hpp>

#include <kasane/base/units.hpp>
#include <kasane/calibration/demosaic_kernel.hpp>
#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <optional>
#include <vector>

namespace kasane {

namespace {

constexpr int kBilinearReach = 1;
constexpr int kWideReach = 2; // 6 x 6 patterns: some colour is three pixels apart
constexpr int kFluxReach = 4; // of the smoothing by which fluxes are compared
// 2 for green, 2 for the decision between directions, 1 for differences; around what is missing 2 more are looked at.
constexpr int kDirectedReach = 5, kGapReach = 2;
constexpr int kAdaptiveHalo = kDirectedReach + kFluxReach + kGapReach;

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

/// A pixel's colour, without its own data as the mean of its neighbours of that colour.
float bilinear_at(View<const float> mosaic, const CfaPattern& cfa, const NeighbourTable& table, int x, int y,
                  int colour) {
    const float v = colour == cfa.colour(x, y) ? mosaic(x, y) : kNoData;
    return v == v ? v : weighted_mean(mosaic, x, y, table.at(x, y, colour));
}

int bilinear_reach(const CfaPattern& cfa) {
    return cfa.period() == 2 ? kBilinearReach : kWideReach;
}

void bilinear_of_any(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
    const int reach = bilinear_reach(cfa);
    const NeighbourTable table(cfa, reach);
    for (int y = 0; y < planes[0].height; ++y)
        for (int x = 0; x < planes[0].width; ++x)
            for (int c = 0; c < 3; ++c)
                planes[static_cast<std::size_t>(c)](x, y) = bilinear_at(mosaic, cfa, table, x + reach, y + reach, c);
}

/// The latest rows of something that is gone through from top to bottom.
class RowRing {
public:
    explicit RowRing(int rows) : rows_(rows) {}
    void resize(int width) {
        stride_ = static_cast<std::size_t>(width) + 2 * kRowMargin;
        values_.resize(static_cast<std::size_t>(rows_) * stride_);
    }
    float* operator[](int y) { return values_.data() + static_cast<std::size_t>(y % rows_) * stride_ + kRowMargin; }
    RowsOfThree three(int y) { return {(*this)[y - 1], (*this)[y], (*this)[y + 1]}; }
    FiveRows five(int y) { return {(*this)[y - 2], (*this)[y - 1], (*this)[y], (*this)[y + 1], (*this)[y + 2]}; }

private:
    int rows_;
    std::size_t stride_ = 0;
    std::vector<float> values_;
};

/// The rows of a mosaic of 2 x 2 colours, and where in them there is no data.
class MosaicRows {
public:
    void begin(View<const float> mosaic, const CfaPattern& cfa) {
        mosaic_ = mosaic;
        cfa_ = &cfa;
        rows_.resize(mosaic.width);
        any_gap_ = false;
        gaps_.assign(static_cast<std::size_t>(mosaic.height), {});
    }
    void take(int y) {
        const float* from = mosaic_.row(y);
        std::copy_n(from, mosaic_.width, rows_[y]);
        if (!any_gap(from, static_cast<std::size_t>(mosaic_.width))) return;
        any_gap_ = true;
        for (int x = 0; x < mosaic_.width; ++x)
            if (from[x] != from[x]) gaps_[static_cast<std::size_t>(y)].push_back(x);
    }
    const std::vector<int>& gaps(int y) const { return gaps_[static_cast<std::size_t>(y)]; }
    bool any_gap_so_far() const { return any_gap_; }

    RowPhase phase(int y) const { return cfa_->colour(0, y) == 1 ? RowPhase::green_first : RowPhase::colour_first; }
    /// The colour that a row has beside green: 0 or 2.
    int own_colour(int y) const { return cfa_->colour(phase(y) == RowPhase::green_first ? 1 : 0, y); }

    /// Means of the neighbours, red, green and blue; rows y - 1 to y + 1 have been taken.
    void bilinear(int y, const std::array<float*, 3>& to) {
        const auto own = static_cast<std::size_t>(own_colour(y));
        bilinear_row(rows_.three(y), phase(y), static_cast<std::size_t>(mosaic_.width), to[1], to[own], to[2 - own]);
        if (gaps(y - 1).empty() && gaps(y).empty() && gaps(y + 1).empty()) return;
        if (!table_ || table_of_ != *cfa_) {
            table_.emplace(*cfa_, kBilinearReach);
            table_of_ = *cfa_;
        }
        beside_gap_.assign(static_cast<std::size_t>(mosaic_.width), 0);
        for (int j = y - 1; j <= y + 1; ++j)
            for (const int gap : gaps(j))
                for (int x = std::max(1, gap - 1); x <= std::min(mosaic_.width - 2, gap + 1); ++x)
                    beside_gap_[static_cast<std::size_t>(x)] = 1;
        for (int x = 1; x < mosaic_.width - 1; ++x)
            if (beside_gap_[static_cast<std::size_t>(x)])
                for (int c = 0; c < 3; ++c)
                    to[static_cast<std::size_t>(c)][x] = bilinear_at(mosaic_, *cfa_, *table_, x, y, c);
    }

    /// The row with the mean of their colour around, 2 pixels far, where there is no data; 0 where there is none.
    void filled(int y, float* to) {
        std::copy_n(mosaic_.row(y), mosaic_.width, to);
        for (const int x : gaps(y)) {
            const int own = cfa_->colour(x, y);
            float sum = 0;
            int n = 0;
            for (int j = std::max(0, y - kGapReach); j <= std::min(mosaic_.height - 1, y + kGapReach); ++j)
                for (int i = std::max(0, x - kGapReach); i <= std::min(mosaic_.width - 1, x + kGapReach); ++i)
                    if (cfa_->colour(i, j) == own && mosaic_(i, j) == mosaic_(i, j)) {
                        sum += mosaic_(i, j);
                        ++n;
                    }
            to[x] = n ? sum / static_cast<float>(n) : 0;
        }
    }

private:
    View<const float> mosaic_;
    const CfaPattern* cfa_ = nullptr;
    RowRing rows_{16};
    bool any_gap_ = false;
    std::vector<std::vector<int>> gaps_; // columns, of each row
    std::optional<NeighbourTable> table_;
    CfaPattern table_of_;
    std::vector<std::uint8_t> beside_gap_;
};

void bilinear(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
    thread_local MosaicRows rows;
    thread_local std::array<RowRing, 3> out{RowRing(1), RowRing(1), RowRing(1)};
    rows.begin(mosaic, cfa);
    for (RowRing& r : out)
        r.resize(mosaic.width);
    rows.take(0);
    rows.take(1);
    for (int y = 0; y < planes[0].height; ++y) {
        rows.take(y + 2 * kBilinearReach);
        rows.bilinear(y + kBilinearReach, {out[0][0], out[1][0], out[2][0]});
        for (std::size_t c = 0; c < 3; ++c)
            std::copy_n(out[c][0] + kBilinearReach, planes[c].width, planes[c].row(y));
    }
}

/// The directed interpolation takes what colours share for granted, and so draws the fluxes of strongly coloured stars
/// towards grey. The bilinear one keeps every flux. Their difference, smoothed over a star's size, is given back to the
/// interpolated pixels: detail from the one, fluxes from the other. Each step follows the mosaic's rows as far behind
/// as it needs rows that come later, so that all of them stay at hand.
class Adaptive {
public:
    void run(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
        count_ = static_cast<std::size_t>(mosaic.width);
        rows_.begin(mosaic, cfa);
        for (RowRing* r : {&filled_, &along_, &across_, &above_along_, &above_across_, &change_along_, &change_across_,
                           &green_, &red_, &blue_, &between_})
            r->resize(mosaic.width);
        for (std::size_t c = 0; c < 3; ++c)
            for (RowRing* r : {&even_[c], &given_[c], &smooth_[c]})
                r->resize(mosaic.width);
        const int first = kAdaptiveHalo, last = kAdaptiveHalo + planes[0].height - 1;
        // A row's gaps are filled from two rows around it.
        for (int y = 0; y < mosaic.height; ++y) {
            rows_.take(y);
            const int filled = y - kGapReach, directed = filled - 2, decided = directed - 2, coloured = decided - 1,
                      smoothed = coloured - 2, out = smoothed - 2;
            if (filled >= 0) rows_.filled(filled, filled_[filled]);
            if (directed >= 2) find_greens(directed);
            if (decided >= 4) decide(decided);
            if (coloured >= kDirectedReach) find_colours(coloured);
            if (smoothed >= kDirectedReach + 2) smooth_columns(smoothed);
            if (out >= first && out <= last) write(out, planes);
        }
        if (rows_.any_gap_so_far()) leave_gaps(mosaic, planes);
    }

private:
    void find_greens(int y) {
        directed_green_row(filled_.five(y), rows_.phase(y), count_,
                           {along_[y], across_[y], above_along_[0], above_across_[y]});
        change_row(above_along_[0], above_along_[0] + 2, count_, change_along_[y]);
        if (y >= 4) change_row(above_across_[y - 2], above_across_[y], count_, change_across_[y - 2]);
    }
    void decide(int y) {
        decided_green_row(change_along_.five(y), {change_across_[y - 2], change_across_[y - 1], change_across_[y]},
                          along_[y], across_[y], count_, green_[y]);
    }
    RowRing& fine(std::size_t colour) { return colour == 0 ? red_ : colour == 1 ? green_ : blue_; }
    void find_colours(int y) {
        const auto own = static_cast<std::size_t>(rows_.own_colour(y));
        other_colours_row(filled_.three(y), green_.three(y), rows_.phase(y), count_, fine(own)[y], fine(2 - own)[y]);
        rows_.bilinear(y, {even_[0][0], even_[1][0], even_[2][0]});
        for (std::size_t c = 0; c < 3; ++c) {
            difference_row(even_[c][0], fine(c)[y], count_, even_[c][0]);
            smooth_row_twice(even_[c][0], count_, between_[0], given_[c][y]);
        }
    }
    void smooth_columns(int y) {
        for (std::size_t c = 0; c < 3; ++c)
            mean_of_five_rows(given_[c].five(y), count_, smooth_[c][y]);
    }
    void write(int y, const std::array<View<float>, 3>& planes) {
        const bool green_first = rows_.phase(y) == RowPhase::green_first;
        for (std::size_t c = 0; c < 3; ++c) {
            mean_of_five_rows(smooth_[c].five(y), count_, between_[0]);
            const float share = c == 1 ? 2.0f : 4.0f / 3; // one over the share of interpolated pixels
            const OwnSites own = c == 1 ? (green_first ? OwnSites::even : OwnSites::odd)
                                 : static_cast<int>(c) == rows_.own_colour(y)
                                     ? (green_first ? OwnSites::odd : OwnSites::even)
                                     : OwnSites::none;
            give_back_row(fine(c)[y], between_[0], share, own, count_, even_[c][0]);
            std::copy_n(even_[c][0] + kAdaptiveHalo, planes[c].width, planes[c].row(y - kAdaptiveHalo));
        }
    }
    /// What had no data has none, unless its neighbours gave it some.
    void leave_gaps(View<const float> mosaic, const std::array<View<float>, 3>& planes) {
        for (int y = 0; y < planes[0].height; ++y)
            for (const int mx : rows_.gaps(y + kAdaptiveHalo)) {
                const int x = mx - kAdaptiveHalo, my = y + kAdaptiveHalo;
                if (x < 0 || x >= planes[0].width) continue;
                bool any = false;
                for (int j = -kGapReach; j <= kGapReach; ++j)
                    for (int i = -kGapReach; i <= kGapReach; ++i)
                        any = any || mosaic(mx + i, my + j) == mosaic(mx + i, my + j);
                if (!any)
                    for (const auto& p : planes)
                        p(x, y) = kNoData;
            }
    }

    std::size_t count_ = 0; ///< of a row
    MosaicRows rows_;
    RowRing filled_{16};                         // the mosaic without gaps
    RowRing along_{4}, across_{4};               // green by each direction
    RowRing above_along_{1}, above_across_{4};   // own colour less green, at red and blue sites; 0 at green ones
    RowRing change_along_{8}, change_across_{4}; // how much these change
    RowRing green_{8}, red_{8}, blue_{8};        // by the direction chosen
    std::array<RowRing, 3> even_{RowRing(1), RowRing(1), RowRing(1)};   // by the nearest neighbours; less these
    std::array<RowRing, 3> given_{RowRing(8), RowRing(8), RowRing(8)};  // smoothed along rows
    std::array<RowRing, 3> smooth_{RowRing(8), RowRing(8), RowRing(8)}; // and once across them
    RowRing between_{1};
};

/// In strips of columns, whose rows stay in the nearer caches.
void adaptive(View<const float> mosaic, const CfaPattern& cfa, const std::array<View<float>, 3>& planes) {
    constexpr int kStrip = 512; // pixels; even, so that the pattern's phase stays
    thread_local Adaptive work;
    for (int x = 0; x < planes[0].width; x += kStrip) {
        const int width = std::min(kStrip, planes[0].width - x);
        const auto part = [&](const View<float>& p) { return p.crop({x, 0, width, p.height}); };
        work.run(mosaic.crop({x, 0, width + 2 * kAdaptiveHalo, mosaic.height}), cfa,
                 {part(planes[0]), part(planes[1]), part(planes[2])});
    }
}

} // namespace

int demosaic_halo(Demosaic method, const CfaPattern& cfa) {
    return method == Demosaic::adaptive && cfa.checkered() ? kAdaptiveHalo : bilinear_reach(cfa);
}

void demosaic(View<const float> mosaic, const CfaPattern& phase, Demosaic method,
              const std::array<View<float>, 3>& planes) {
    if (!phase.checkered())
        bilinear_of_any(mosaic, phase, planes);
    else if (method == Demosaic::adaptive)
        adaptive(mosaic, phase, planes);
    else
        bilinear(mosaic, phase, planes);
}

namespace {

/// Squares of two by two: red and blue as they are, green of two.
void bin_by_two(View<const float> mosaic, const CfaPattern& phase, const std::array<View<float>, 3>& planes) {
    const int width = planes[0].width;
    std::array<std::vector<float>, 2> both;
    for (auto& row : both)
        row.resize(static_cast<std::size_t>(width));
    for (int y = 0; y < planes[0].height; ++y) {
        std::size_t greens = 0;
        for (int j = 0; j < 2; ++j)
            for (int i = 0; i < 2; ++i) {
                const auto c = static_cast<std::size_t>(phase.colour(i, j));
                const auto count = static_cast<std::size_t>(2 * width - i); // up to the last one's own
                take_every(mosaic.row(2 * y + j) + i, 2, count, c == 1 ? both[greens++].data() : planes[c].row(y));
            }
        const float *a = both[0].data(), *b = both[1].data();
        float* to = planes[1].row(y);
        for (int x = 0; x < width; ++x) {
            const bool has_a = a[x] == a[x], has_b = b[x] == b[x];
            to[x] = has_a && has_b ? (a[x] + b[x]) / 2 : has_a ? a[x] : b[x];
        }
    }
}

} // namespace

void bin_mosaic(View<const float> mosaic, const CfaPattern& phase, const std::array<View<float>, 3>& planes) {
    const int cell = phase.cell();
    if (phase.checkered()) return bin_by_two(mosaic, phase, planes);
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

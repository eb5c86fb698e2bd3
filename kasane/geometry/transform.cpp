#include <kasane/geometry/transform.hpp>

#include <kasane/base/error.hpp>
#include <kasane/geometry/row_kernel.hpp>
#include <kasane/image/positions.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr double kFixed = 4294967296.0;
constexpr double kFarthest = 1e8; // pixels; positions beyond stand for "nowhere near"

Point through(const std::array<double, 9>& m, Point p) {
    const double w = m[6] * p.x + m[7] * p.y + m[8];
    return {(m[0] * p.x + m[1] * p.y + m[2]) / w, (m[3] * p.x + m[4] * p.y + m[5]) / w};
}

Point through(const Affine& a, Point p) {
    Point q;
    a.apply(p.x, p.y, q.x, q.y);
    return q;
}

/// First derivatives of a map: du/dx, du/dy, dv/dx, dv/dy.
using Slope = std::array<double, 4>;

Slope times(const Slope& p, const Slope& q) {
    return {p[0] * q[0] + p[1] * q[2], p[0] * q[1] + p[1] * q[3], p[2] * q[0] + p[3] * q[2], p[2] * q[1] + p[3] * q[3]};
}

Slope inverse(const Slope& s) {
    const double det = s[0] * s[3] - s[1] * s[2];
    return {s[3] / det, -s[1] / det, -s[2] / det, s[0] / det};
}

/// Of a projective map.
Slope slope(const std::array<double, 9>& m, Point p) {
    const double w = m[6] * p.x + m[7] * p.y + m[8];
    const Point q = through(m, p);
    return {(m[0] - q.x * m[6]) / w, (m[1] - q.x * m[7]) / w, (m[3] - q.y * m[6]) / w, (m[4] - q.y * m[7]) / w};
}

/// By how much a stereographic picture draws a position of its plane together, and how that changes with the squared
/// distance.
struct Drawn {
    double by, change;
};
Drawn stereographic(double focal, double r2) {
    // 2 tan(a / 2) over tan a, with r = focal tan a.
    const double root = std::sqrt(1 + r2 / (focal * focal));
    return {2 / (1 + root), -1 / ((1 + root) * (1 + root) * root * focal * focal)};
}

/// Of a lens.
Slope slope(const Lens& lens, Point p) {
    if (lens.stereographic > 0) {
        const double x = p.x - lens.centre.x, y = p.y - lens.centre.y;
        const auto [by, change] = stereographic(lens.stereographic, x * x + y * y);
        return {by + 2 * change * x * x, 2 * change * x * y, 2 * change * x * y, by + 2 * change * y * y};
    }
    const double s = 1 / lens.radius, x = (p.x - lens.centre.x) * s, y = (p.y - lens.centre.y) * s;
    const auto& [k1, k2, k3] = lens.radial;
    const auto& [p1, p2] = lens.decentring;
    const double r2 = x * x + y * y, g = 1 + r2 * (k1 + r2 * (k2 + r2 * k3));
    const double dg = 2 * (k1 + r2 * (2 * k2 + r2 * 3 * k3)); // dg/dx = dg x
    const double cross = dg * x * y + 2 * p1 * x + 2 * p2 * y;
    return {g + dg * x * x + 2 * p1 * y + 6 * p2 * x, cross, cross, g + dg * y * y + 6 * p1 * y + 2 * p2 * x};
}

/// Whether a lens has begun to bring farther positions nearer by a squared distance of `r2`: what lies beyond would be
/// seen twice.
bool folds(const std::array<double, 3>& radial, double r2) {
    const double a = 3 * radial[0], b = 5 * radial[1], c = 7 * radial[2]; // the radial slope is 1 + a r2 + b r2^2 + ...
    if (r2 * (std::abs(a) + r2 * (std::abs(b) + r2 * std::abs(c))) < 1) return false;
    constexpr int kSteps = 16;
    for (int i = 1; i <= kSteps; ++i) {
        const double s = r2 * i / kSteps;
        if (1 + s * (a + s * (b + s * c)) <= 0) return true;
    }
    return false;
}

std::array<double, 9> inverse_of(const std::array<double, 9>& m) {
    const auto minor = [&](int a, int b, int c, int d) {
        return m[static_cast<std::size_t>(a)] * m[static_cast<std::size_t>(d)] -
               m[static_cast<std::size_t>(b)] * m[static_cast<std::size_t>(c)];
    };
    const double det = m[0] * minor(4, 5, 7, 8) - m[1] * minor(3, 5, 6, 8) + m[2] * minor(3, 4, 6, 7);
    if (!std::isfinite(det) || det == 0)
        throw DataError("a transform of a canvas onto a line or a point has no inverse", {},
                        "Give one that keeps an area");
    std::array<double, 9> r{minor(4, 5, 7, 8), minor(2, 1, 8, 7), minor(1, 2, 4, 5),
                            minor(5, 3, 8, 6), minor(0, 2, 6, 8), minor(2, 0, 5, 3),
                            minor(3, 4, 6, 7), minor(1, 0, 7, 6), minor(0, 1, 3, 4)};
    for (double& v : r)
        v /= det;
    return r;
}

std::int64_t fixed(double position) {
    return std::llround((std::isfinite(position) ? std::clamp(position, -kFarthest, kFarthest) : kFarthest) * kFixed);
}

int patch_begin(int at) {
    const int k = at >= 0 ? at / Transform::kPatch : -((-at + Transform::kPatch - 1) / Transform::kPatch);
    return k * Transform::kPatch;
}

/// In thirds of a patch.
constexpr double kPerPixel = 3.0 / Transform::kPatch;

/// What was told of four rows, a third of a patch apart, so many thirds down (Newton's divided differences).
std::array<double, 8> at_row(const std::array<std::array<double, 8>, 4>& c, double t) {
    const double less = t - 1, least = t - 2;
    std::array<double, 8> out;
    for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = c[0][i] + t * (c[1][i] + less * (c[2][i] + least * c[3][i]));
    return out;
}

} // namespace

Point Lens::distort(Point p) const {
    if (stereographic > 0) {
        const double x = p.x - centre.x, y = p.y - centre.y,
                     by = kasane::stereographic(stereographic, x * x + y * y).by;
        return {centre.x + by * x, centre.y + by * y};
    }
    const double s = 1 / radius, x = (p.x - centre.x) * s, y = (p.y - centre.y) * s;
    const auto& [k1, k2, k3] = radial;
    const auto& [p1, p2] = decentring;
    const double r2 = x * x + y * y, g = 1 + r2 * (k1 + r2 * (k2 + r2 * k3));
    if (folds(radial, r2)) return {kNoData, kNoData};
    return {centre.x + radius * (x * g + 2 * p1 * x * y + p2 * (r2 + 2 * x * x)),
            centre.y + radius * (y * g + p1 * (r2 + 2 * y * y) + 2 * p2 * x * y)};
}

Point Lens::correct(Point seen) const {
    if (stereographic > 0) {
        const double x = seen.x - centre.x, y = seen.y - centre.y,
                     left = 1 - (x * x + y * y) / (4 * stereographic * stereographic);
        if (!(left > 0)) return {kNoData, kNoData}; // 90 degrees and more: no plane shows that
        return {centre.x + x / left, centre.y + y / left};
    }
    constexpr int kSteps = 30;
    constexpr double kLastStep = 1e-4; // pixels: Newton's next would be its square times the bend, below 1e-9
    const auto& [k1, k2, k3] = radial;
    const auto& [p1, p2] = decentring;
    // In radii: what `distort` and `slope` do, in one.
    const double s = 1 / radius, last = kLastStep * s, u = (seen.x - centre.x) * s, v = (seen.y - centre.y) * s;
    double x = u, y = v;
    for (int step = 0; step < kSteps; ++step) {
        const double xx = x * x, yy = y * y, xy = x * y, r2 = xx + yy;
        if (!std::isfinite(r2) || folds(radial, r2)) break;
        const double g = 1 + r2 * (k1 + r2 * (k2 + r2 * k3)), dg = 2 * (k1 + r2 * (2 * k2 + r2 * 3 * k3));
        const double dx = u - (x * g + 2 * p1 * xy + p2 * (r2 + 2 * xx)),
                     dy = v - (y * g + p1 * (r2 + 2 * yy) + 2 * p2 * xy);
        const double a = g + dg * xx + 2 * p1 * y + 6 * p2 * x, b = dg * xy + 2 * p1 * x + 2 * p2 * y,
                     d = g + dg * yy + 6 * p1 * y + 2 * p2 * x;
        const double det = a * d - b * b;
        if (!(det > 0)) break; // it folds here
        const double to_one = 1 / det, by_x = (d * dx - b * dy) * to_one, by_y = (a * dy - b * dx) * to_one;
        x += by_x;
        y += by_y;
        if (std::abs(by_x) < last && std::abs(by_y) < last) return {centre.x + radius * x, centre.y + radius * y};
    }
    return {kNoData, kNoData};
}

Transform::Transform(const Affine& a) : matrix_{a.a, a.b, a.c, a.d, a.e, a.f, 0, 0, 1} {
    settle();
}

Transform::Transform(const std::array<double, 9>& projective, std::shared_ptr<const Lens> lens)
    : matrix_(projective), lens_(std::move(lens)) {
    settle();
}

Transform::Transform(const std::array<double, 9>& projective, std::shared_ptr<const Lens> lens,
                     std::shared_ptr<const Lens> canvas_lens)
    : canvas_lens_(std::move(canvas_lens)), matrix_(projective), lens_(std::move(lens)) {
    settle();
}

void Transform::settle() {
    affine_ = matrix_[6] == 0 && matrix_[7] == 0 && matrix_[8] == 1;
    if (!affine_) {
        inverse_ = inverse_of(matrix_);
        return;
    }
    const Affine a = affine_part();
    if (!std::isfinite(a.determinant()) || a.determinant() == 0)
        throw DataError("a transform of a canvas onto a line or a point has no inverse", {},
                        "Give one that keeps an area");
    const Affine b = a.inverse();
    inverse_ = {b.a, b.b, b.c, b.d, b.e, b.f, 0, 0, 1};
}

Affine Transform::affine_part() const {
    return {matrix_[0], matrix_[1], matrix_[2], matrix_[3], matrix_[4], matrix_[5]};
}

/// Freed of the canvas's distortion.
Point Transform::ideal(Point p) const {
    return canvas_lens_ ? canvas_lens_->correct(through(canvas_, p)) : p;
}

Point Transform::exact(Point p) const {
    return from_ideal(ideal(p));
}

Point Transform::from_ideal(Point p) const {
    Point q = affine_ ? through(affine_part(), p) : through(matrix_, p);
    if (lens_) q = lens_->distort(q);
    return {q.x + shift_.x, q.y + shift_.y};
}

Point Transform::map(Point p) const {
    return is_affine() ? through(affine_part(), p) : exact(p);
}

Point Transform::unmap(Point p) const {
    if (is_affine())
        return through(Affine{inverse_[0], inverse_[1], inverse_[2], inverse_[3], inverse_[4], inverse_[5]}, p);
    Point q{p.x - shift_.x, p.y - shift_.y};
    if (lens_) q = lens_->correct(q);
    q = through(inverse_, q);
    return canvas_lens_ ? through(canvas_.inverse(), canvas_lens_->distort(q)) : q;
}

Affine Transform::at(Point p) const {
    if (is_affine()) return affine_part();
    Slope s{1, 0, 0, 1};
    const Point z = ideal(p);
    if (canvas_lens_) s = times(inverse(slope(*canvas_lens_, z)), {canvas_.a, canvas_.b, canvas_.d, canvas_.e});
    s = times(slope(matrix_, z), s);
    if (lens_) s = times(slope(*lens_, through(matrix_, z)), s);
    const auto [a, b, d, e] = s;
    const Point q = from_ideal(z);
    return {a, b, q.x - a * p.x - b * p.y, d, e, q.y - d * p.x - e * p.y};
}

Transform::Outline Transform::outline(const Region& r) const {
    const double x1 = r.right() - 1, y1 = r.bottom() - 1;
    const std::array<Point, 4> corners{Point{static_cast<double>(r.x), static_cast<double>(r.y)},
                                       Point{x1, static_cast<double>(r.y)}, Point{x1, y1},
                                       Point{static_cast<double>(r.x), y1}};
    Outline out;
    if (is_affine()) {
        for (const Point& corner : corners)
            out.points.push_back(map(corner));
        return out;
    }
    // Between samples of a side it bends by an eighth of the second difference.
    constexpr int kFewest = 5, kMost = 16, kStep = 64; // of the samples of a side; pixels between them
    const int steps = std::clamp(std::max(r.width, r.height) / kStep, kFewest, kMost);
    double bend = 0;
    for (std::size_t side = 0; side < corners.size(); ++side) {
        const Point from = corners[side], to = corners[(side + 1) % corners.size()];
        std::array<Point, kMost + 1> line;
        for (int i = 0; i <= steps; ++i) {
            const double t = static_cast<double>(i) / steps;
            line[static_cast<std::size_t>(i)] = map({from.x + t * (to.x - from.x), from.y + t * (to.y - from.y)});
            if (i < steps) out.points.push_back(line[static_cast<std::size_t>(i)]);
        }
        for (std::size_t i = 1; i < static_cast<std::size_t>(steps); ++i)
            bend = std::max({bend, std::abs(line[i - 1].x - 2 * line[i].x + line[i + 1].x),
                             std::abs(line[i - 1].y - 2 * line[i].y + line[i + 1].y)});
    }
    out.margin = bend / 4 + 4e-6; // twice an eighth, and the error of the rows
    return out;
}

Bounds Transform::bounds(const Region& r) const {
    // A map that does not fold keeps what lies inside inside its border.
    const auto [points, margin] = outline(r);
    Bounds out{1e30, 1e30, -1e30, -1e30};
    for (const Point& p : points) {
        out.left = std::min(out.left, p.x), out.top = std::min(out.top, p.y);
        out.right = std::max(out.right, p.x), out.bottom = std::max(out.bottom, p.y);
    }
    return {out.left - margin, out.top - margin, out.right + margin, out.bottom + margin};
}

/// Where a place of the canvas lies that is told in thirds of a patch.
Point Transform::node(int i, int j, Patches& patches) const {
    constexpr double kThird = kPatch / 3.0;
    static_assert(3 * kThird == kPatch);
    const Point canvas{i * kThird, j * kThird};
    if (!canvas_lens_) return exact(canvas);
    constexpr int kEachWay = 32; // those of a tile, and more
    if (patches.canvas_lens_ != canvas_lens_ || patches.canvas_.coefficients() != canvas_.coefficients()) {
        patches.canvas_lens_ = canvas_lens_;
        patches.canvas_ = canvas_;
        patches.ideal_.assign(kEachWay * kEachWay, {});
    }
    Patches::Ideal& known =
        patches.ideal_[static_cast<std::size_t>((j & (kEachWay - 1)) * kEachWay + (i & (kEachWay - 1)))];
    if (!known.known || known.i != i || known.j != j) known = {i, j, ideal(canvas), true};
    return from_ideal(known.at);
}

const Transform::Patches::Patch& Transform::patch(int x, int y, Patches& patches) const {
    const auto known = [&](int left, int top) -> const Patches::Patch* {
        // After one comes the one that was made after it, for the most part.
        const std::size_t all = patches.known_.size();
        for (std::size_t k = 0, at = patches.last_; k < all; ++k) {
            at = at + 1 < all ? at + 1 : 0;
            if (patches.known_[at].x == left && patches.known_[at].y == top) return &patches.known_[at];
        }
        return nullptr;
    };
    if (const Patches::Patch* const own = known(x, y)) {
        patches.last_ = static_cast<std::size_t>(own - patches.known_.data());
        return *own;
    }
    constexpr std::size_t kMost = 16; // a row of a tile spans five at most, a wide row its width over theirs
    if (patches.known_.size() < kMost) patches.known_.emplace_back();
    patches.last_ = patches.next_++ % patches.known_.size();
    Patches::Patch& p = patches.known_[patches.last_];
    p.x = x, p.y = y, p.plain = true;
    // Neighbours share the places of an edge.
    const int first_i = x / kPatch * 3, first_j = y / kPatch * 3; // they begin at multiples
    const Patches::Patch *const left = known(x - kPatch, y), *const above = known(x, y - kPatch);
    for (std::size_t i = 0; i < 4; ++i)
        for (std::size_t j = 0; j < 4; ++j) {
            Point& q = p.nodes[i][j];
            q = left && i == 0    ? left->nodes[3][j]
                : above && j == 0 ? above->nodes[i][3]
                                  : node(first_i + static_cast<int>(i), first_j + static_cast<int>(j), patches);
            p.plain = p.plain && std::abs(q.x) < kMostCounted && std::abs(q.y) < kMostCounted; // not for NaN
        }
    if (!p.plain) return p;
    std::array<std::array<double, 8>, 4> rows{};
    for (std::size_t j = 0; j < 4; ++j) {
        const auto along = [&](double Point::*at) {
            return Cubic::through({p.nodes[0][j].*at, p.nodes[1][j].*at, p.nodes[2][j].*at, p.nodes[3][j].*at},
                                  kPerPixel);
        };
        const Cubic u = along(&Point::x), v = along(&Point::y);
        rows[j] = {u.start, u.first, u.second, u.third, v.start, v.first, v.second, v.third};
        if (j == 0) p.strides = {u.stride, v.stride};
    }
    for (std::size_t k = 0; k < 8; ++k) {
        p.cubics[0][k] = rows[0][k];
        p.cubics[1][k] = rows[1][k] - rows[0][k];
        p.cubics[2][k] = 0.5 * (rows[2][k] - 2 * rows[1][k] + rows[0][k]);
        p.cubics[3][k] = (rows[3][k] - 3 * rows[2][k] + 3 * rows[1][k] - rows[0][k]) / 6;
    }
    return p;
}

std::optional<Transform::EvenRow> Transform::even_row(int x, int y) const {
    if (!is_affine()) return std::nullopt;
    const Affine t = affine_part();
    const auto whole = [](double steps) { return static_cast<std::int64_t>(std::llround(steps * kFixed)); };
    const auto du = whole(t.a), dv = whole(t.d);
    return EvenRow{whole(t.c) + whole(t.b) * y + du * x, du, whole(t.f) + whole(t.e) * y + dv * x, dv};
}

bool Transform::row(int x, int y, int count, const SplitRow& out, Patches& patches) const {
    if (const auto even = even_row(x, y)) {
        const auto n = static_cast<std::size_t>(count);
        split_even_positions(even->u, even->du, n, out.origin_x, out.column, out.fraction_x);
        split_even_positions(even->v, even->dv, n, out.origin_y, out.row, out.fraction_y);
        return true;
    }
    constexpr std::size_t kTogether = 8;
    std::array<PatchRow, kTogether> rows;
    std::size_t waiting = 0;
    int done = 0;
    const auto follow = [&](int until) {
        split_patch_rows(std::span(rows.data(), waiting),
                         {out.origin_x, out.origin_y, out.column + done, out.row + done, out.fraction_x + done,
                          out.fraction_y + done});
        done = until;
        waiting = 0;
    };
    const int top = patch_begin(y);
    const double down = (y - top) * kPerPixel;
    for (int i = 0; i < count;) {
        const int left = patch_begin(x + i), end = std::min(count, left + kPatch - x);
        if (waiting == kTogether) follow(i);
        const Patches::Patch& p = patch(left, top, patches);
        if (p.plain) {
            const std::array<double, 8> c = at_row(p.cubics, down);
            rows[waiting++] = {
                {c[0], c[1], c[2], c[3], p.strides[0]}, {c[4], c[5], c[6], c[7], p.strides[1]}, x + i - left, end - i};
        } else {
            follow(end);
            std::array<std::int64_t, kPatch> u{}, v{};
            for (int k = i; k < end; ++k) { // some of it may be shown, though not all
                const Point q = map({static_cast<double>(x + k), static_cast<double>(y)});
                u[static_cast<std::size_t>(k - i)] = fixed(q.x);
                v[static_cast<std::size_t>(k - i)] = fixed(q.y);
            }
            const auto n = static_cast<std::size_t>(end - i);
            split_positions(u.data(), n, out.origin_x, out.column + i, out.fraction_x + i);
            split_positions(v.data(), n, out.origin_y, out.row + i, out.fraction_y + i);
        }
        i = end;
    }
    follow(count);
    return false;
}

void Transform::row(int x, int y, int count, std::int64_t* u, std::int64_t* v, Patches& patches) const {
    if (const auto even = even_row(x, y)) {
        for (int i = 0; i < count; ++i) {
            u[i] = even->u + i * even->du;
            v[i] = even->v + i * even->dv;
        }
        return;
    }
    constexpr int kTogether = 256;
    SplitPlaces<kTogether> places;
    const auto joined = [](std::int32_t whole, float fraction) {
        return (static_cast<std::int64_t>(whole) << 32) +
               static_cast<std::int64_t>(static_cast<double>(fraction) * kFixed);
    };
    for (int from = 0; from < count; from += kTogether) {
        const int n = std::min(kTogether, count - from);
        row(x + from, y, n, places.from(0, 0), patches);
        for (int i = 0; i < n; ++i) {
            u[from + i] = joined(places.column()[i], places.fraction_x()[i]);
            v[from + i] = joined(places.row()[i], places.fraction_y()[i]);
        }
    }
}

Transform Transform::shifted(double dx, double dy) const {
    Transform t = *this;
    if (!is_affine()) {
        t.shift_.x += dx;
        t.shift_.y += dy;
    } else {
        t.matrix_[2] += dx;
        t.matrix_[5] += dy;
        t.settle();
    }
    return t;
}

Transform Transform::after(const Affine& g) const {
    Transform t = *this;
    if (canvas_lens_) {
        t.canvas_ = canvas_.after(g);
        return t;
    }
    const std::array<double, 9> m = matrix_;
    for (const std::size_t row : {std::size_t{0}, std::size_t{3}, std::size_t{6}}) {
        t.matrix_[row] = m[row] * g.a + m[row + 1] * g.d;
        t.matrix_[row + 1] = m[row] * g.b + m[row + 1] * g.e;
        t.matrix_[row + 2] = m[row] * g.c + m[row + 1] * g.f + m[row + 2];
    }
    t.settle();
    return t;
}

} // namespace kasane

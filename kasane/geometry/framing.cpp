#include <kasane/geometry/framing.hpp>

#include <kasane/base/error.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <optional>

namespace kasane {

namespace {

constexpr double kMostSide = 200000; // pixels: a registration that is wrong, rather than a picture

/// A rectangle between edges of pixels, in the picture as it is turned.
struct Box {
    double left = 0, top = 0, right = 0, bottom = 0;
    double width() const { return right - left; }
    double height() const { return bottom - top; }

    void add(Point p) {
        left = std::min(left, p.x), right = std::max(right, p.x);
        top = std::min(top, p.y), bottom = std::max(bottom, p.y);
    }
};

/// The picture of the reference, turned and mirrored: coordinates in which a canvas is upright.
class TurnedPicture {
public:
    TurnedPicture(double turn, bool mirror)
        : to_reference_(Canvas{.turn = turn, .mirror = mirror}.to_reference()),
          from_reference_(to_reference_.inverse()) {}

    Point from_reference(Point p) const { return moved(from_reference_, p); }
    Point to_reference(Point p) const { return moved(to_reference_, p); }

    /// Holds a rectangle of pixels of the reference.
    Box box_of(const Region& r) const {
        const double x0 = r.x - 0.5, y0 = r.y - 0.5, x1 = r.right() - 0.5, y1 = r.bottom() - 0.5;
        Box out = around(from_reference({x0, y0}));
        for (const Point corner : {Point{x1, y0}, Point{x0, y1}, Point{x1, y1}})
            out.add(from_reference(corner));
        return out;
    }
    static Box around(Point p) { return {p.x, p.y, p.x, p.y}; }

private:
    static Point moved(const Affine& a, Point p) {
        Point out;
        a.apply(p.x, p.y, out.x, out.y);
        return out;
    }
    Affine to_reference_, from_reference_;
};

/// Holds the outline of a frame; nothing where none of it can be shown.
std::optional<Box> outline(const TurnedPicture& picture, const FramedFrame& f) {
    constexpr int kPlaces = 32; // along a side
    std::optional<Box> out;
    const auto add = [&](double x, double y) {
        const Point p = picture.from_reference(f.to_frame.unmap({x, y}));
        if (!std::isfinite(p.x) || !std::isfinite(p.y)) return;
        if (!out) out = TurnedPicture::around(p);
        out->add(p);
    };
    for (int k = 0; k <= kPlaces; ++k) {
        const double x = static_cast<double>(k) / kPlaces * f.width - 0.5;
        const double y = static_cast<double>(k) / kPlaces * f.height - 0.5;
        add(x, -0.5), add(x, f.height - 0.5);
        add(-0.5, y), add(f.width - 0.5, y);
    }
    return out;
}

/// Outwards to edges of whole pixels.
Box to_whole_pixels(const Box& b) {
    constexpr double kNothing = 1e-6; // of a pixel, by rounding
    const auto before = [](double v) { return std::floor(v + 0.5 + kNothing) - 0.5; };
    const auto after = [](double v) { return std::ceil(v + 0.5 - kNothing) - 0.5; };
    return {before(b.left), before(b.top), after(b.right), after(b.bottom)};
}

Box box_of_everything(const TurnedPicture& picture, const std::vector<FramedFrame>& frames, const Box& reference) {
    std::optional<Box> all;
    for (const FramedFrame& f : frames) {
        const auto one = outline(picture, f);
        if (!one) continue;
        if (!all) all = one;
        all->add({one->left, one->top});
        all->add({one->right, one->bottom});
    }
    return to_whole_pixels(all.value_or(reference));
}

/// Inwards to edges of whole pixels.
Box inwards(const Box& b) {
    return {std::ceil(b.left + 0.5) - 0.5, std::ceil(b.top + 0.5) - 0.5, std::floor(b.right + 0.5) - 0.5,
            std::floor(b.bottom + 0.5) - 0.5};
}

/// What the frames of every stack have in common, at places.
class CommonPart {
public:
    CommonPart(const TurnedPicture& picture, const std::vector<FramedFrame>& frames, double share)
        : picture_(picture), frames_(frames), share_(share) {
        for (const FramedFrame& f : frames)
            whole_[f.stack] += f.weight;
    }

    /// The least share of a stack's weight that a place has.
    bool enough_at(Point place) const {
        const Point p = picture_.to_reference(place);
        std::map<std::size_t, double> here;
        for (const FramedFrame& f : frames_) {
            const Point q = f.to_frame.map(p);
            constexpr double kMargin = 2; // pixels that interpolation reaches beyond
            if (q.x >= kMargin && q.y >= kMargin && q.x <= f.width - 1 - kMargin && q.y <= f.height - 1 - kMargin &&
                !(f.hidden && f.hidden(q)))
                here[f.stack] += f.weight;
        }
        constexpr double kRounding = 1e-9;
        return std::all_of(whole_.begin(), whole_.end(), [&](const auto& stack) {
            const auto it = here.find(stack.first);
            return it != here.end() && it->second >= (share_ - kRounding) * stack.second;
        });
    }

    /// The largest rectangle of whole cells of a lattice over `all`, grown to all sides as far as it can be, between
    /// edges of pixels; nothing where there is none.
    std::optional<Box> largest(const Box& all) const {
        // What hides parts of a frame may have any shape.
        const bool any_shape =
            std::any_of(frames_.begin(), frames_.end(), [](const FramedFrame& f) { return bool(f.hidden); });
        const double cells = any_shape ? 4 * kCells : kCells;
        const double cell = std::max(1.0, std::max(all.width(), all.height()) / cells);
        const int columns = std::max(1, static_cast<int>(all.width() / cell));
        const int rows = std::max(1, static_cast<int>(all.height() / cell));
        std::vector<std::vector<char>> good(static_cast<std::size_t>(rows) + 1);
        for (int j = 0; j <= rows; ++j)
            for (int i = 0; i <= columns; ++i)
                good[static_cast<std::size_t>(j)].push_back(enough_at({all.left + i * cell, all.top + j * cell}) ? 1
                                                                                                                 : 0);
        // Of every row the cells above each column that are good without a gap; the best rectangle that ends here.
        std::vector<int> deep(static_cast<std::size_t>(columns));
        std::int64_t most = 0;
        std::optional<Box> out;
        for (int j = 0; j < rows; ++j) {
            for (int i = 0; i < columns; ++i) {
                const auto r = static_cast<std::size_t>(j), c = static_cast<std::size_t>(i);
                const bool whole = good[r][c] && good[r][c + 1] && good[r + 1][c] && good[r + 1][c + 1];
                deep[c] = whole ? deep[c] + 1 : 0;
            }
            for (int i = 0; i < columns; ++i) {
                int least = deep[static_cast<std::size_t>(i)];
                for (int k = i; k >= 0 && least > 0; --k) {
                    least = std::min(least, deep[static_cast<std::size_t>(k)]);
                    const std::int64_t area = static_cast<std::int64_t>(least) * (i - k + 1);
                    if (area <= most) continue;
                    most = area;
                    out = Box{all.left + k * cell, all.top + (j + 1 - least) * cell, all.left + (i + 1) * cell,
                              all.top + (j + 1) * cell};
                }
            }
        }
        if (!out) return out;
        *out = inwards(*out);
        if (!(out->width() >= 1 && out->height() >= 1)) return std::nullopt;
        grow(*out, cell);
        return out;
    }

private:
    static constexpr double kCells = 96; // along the longer side

    bool enough_along(Point from, Point to, double step) const {
        const int n = 1 + static_cast<int>(std::max(std::abs(to.x - from.x), std::abs(to.y - from.y)) / step);
        for (int k = 0; k <= n; ++k) {
            const double t = static_cast<double>(k) / n;
            if (!enough_at({from.x + t * (to.x - from.x), from.y + t * (to.y - from.y)})) return false;
        }
        return true;
    }

    /// The sides, one after the other, pixel by pixel as far as a cell.
    void grow(Box& b, double cell) const {
        struct Side {
            double Box::*at;
            double by;
        };
        for (const Side side : {Side{&Box::left, -1}, Side{&Box::top, -1}, Side{&Box::right, 1}, Side{&Box::bottom, 1}})
            for (int k = 0; k < static_cast<int>(cell) + 1; ++k) {
                Box wider = b;
                wider.*side.at += side.by;
                const bool upright = side.at == &Box::left || side.at == &Box::right;
                const double at = wider.*side.at;
                if (!(upright ? enough_along({at, wider.top}, {at, wider.bottom}, cell)
                              : enough_along({wider.left, at}, {wider.right, at}, cell)))
                    break;
                b = wider;
            }
    }

    const TurnedPicture& picture_;
    const std::vector<FramedFrame>& frames_;
    double share_;
    std::map<std::size_t, double> whole_; ///< weight by stack
};

Box box_in_common(const TurnedPicture& picture, const std::vector<FramedFrame>& frames, double share,
                  const Box& reference) {
    if (frames.empty()) return reference;
    const auto found = CommonPart(picture, frames, share).largest(box_of_everything(picture, frames, reference));
    if (found) return *found;
    throw DataError(
        fmt::format("there is no rectangle of which every part has {:g} % of the weight of each stack", 100 * share),
        {}, "Ask for a smaller share in [canvas], or frame = \"reference\"");
}

/// Whether any of a rectangle of the reference lies in any frame.
bool shown_by_any(const Region& r, const std::vector<FramedFrame>& frames) {
    constexpr int kPlaces = 64; // along a side
    for (int j = 0; j <= kPlaces; ++j)
        for (int i = 0; i <= kPlaces; ++i) {
            const Point p{r.x + static_cast<double>(i) / kPlaces * (r.width - 1),
                          r.y + static_cast<double>(j) / kPlaces * (r.height - 1)};
            for (const FramedFrame& f : frames)
                if (const Point q = f.to_frame.map(p); q.x >= 0 && q.y >= 0 && q.x < f.width && q.y < f.height)
                    return true;
        }
    return frames.empty();
}

} // namespace

std::string FramingOptions::check() const {
    if (!(share > 0 && share <= 1)) return fmt::format("the common share lies above 0 and up to 1, not at {:g}", share);
    if (!(turn >= -360 && turn <= 360))
        return fmt::format("a turn lies between -360 and 360 degrees, not at {:g}", turn);
    if (!(scale >= 0.01 && scale <= 4)) return fmt::format("the scale lies between 0.01 and 4, not at {:g}", scale);
    if (frame == Framing::given && region.empty()) return "the rectangle to be shown is empty";
    return {};
}

Canvas frame_canvas(const FramingOptions& o, int width, int height, const std::vector<FramedFrame>& frames) {
    require_sense(o);
    if (o.frame == Framing::given && !shown_by_any(o.region, frames))
        throw DataError(
            fmt::format("no light shows anything of the rectangle of {} x {} pixels at ({}, {})", o.region.width,
                        o.region.height, o.region.x, o.region.y),
            {}, fmt::format("Give frame in [canvas] in pixels of the reference's grid, of {} x {}", width, height));
    const TurnedPicture picture(o.turn, o.mirror);
    const Box reference = picture.box_of({0, 0, width, height});
    const Box box = o.frame == Framing::everything ? box_of_everything(picture, frames, reference)
                    : o.frame == Framing::common   ? box_in_common(picture, frames, o.share, reference)
                    : o.frame == Framing::given    ? picture.box_of(o.region)
                                                   : reference;
    if (!(box.width() * o.scale <= kMostSide && box.height() * o.scale <= kMostSide))
        throw DataError(
            fmt::format("the picture would have {:.0f} x {:.0f} pixels", box.width() * o.scale, box.height() * o.scale),
            {},
            "Look with 'kasane align' for lights that were brought far from the others, or ask for less in "
            "[canvas]");
    Canvas out;
    constexpr double kNothing = 1e-6; // of a pixel, by rounding
    const auto side = [&](double span) {
        return std::max(1, static_cast<int>(std::lround(span * o.scale - kNothing)));
    };
    out.width = side(box.width());
    out.height = side(box.height());
    out.scale = o.scale;
    out.turn = o.turn;
    out.mirror = o.mirror;
    out.framing = o.frame;
    out.origin = picture.to_reference({box.left + 0.5 / o.scale, box.top + 0.5 / o.scale});
    return out;
}

Canvas grid_around(const Canvas& canvas, int width, int height) {
    const Affine a = canvas.to_reference();
    Box box{-0.5, -0.5, width - 0.5, height - 0.5};
    for (const double x : {-0.5, canvas.width - 0.5})
        for (const double y : {-0.5, canvas.height - 0.5}) {
            Point p;
            a.apply(x, y, p.x, p.y);
            box.add(p);
        }
    box = to_whole_pixels(box);
    return {.width = static_cast<int>(std::lround(box.width())),
            .height = static_cast<int>(std::lround(box.height())),
            .origin = {box.left + 0.5, box.top + 0.5}};
}

std::string canvas_text(const Canvas& c) {
    std::string out = c.framing == Framing::everything ? "everything that a light shows"
                      : c.framing == Framing::common   ? "what most of the weight of every stack shows"
                      : c.framing == Framing::given    ? "a rectangle given by hand"
                                                       : "what the reference shows";
    out += fmt::format(", {} x {} pixels", c.width, c.height);
    if (c.origin.x != 0 || c.origin.y != 0)
        out += fmt::format(" from ({:g}, {:g}) of the reference", std::round(10 * c.origin.x) / 10 + 0.0,
                           std::round(10 * c.origin.y) / 10 + 0.0);
    if (c.turn != 0) out += fmt::format(", turned by {:g} degrees counter-clockwise", std::round(100 * c.turn) / 100);
    if (c.mirror) out += ", mirrored";
    if (c.scale != 1)
        out += fmt::format(", AT SCALE {:g}: a pixel is {:g} of the reference's along its side", c.scale,
                           std::round(1000 / c.scale) / 1000);
    return out;
}

} // namespace kasane

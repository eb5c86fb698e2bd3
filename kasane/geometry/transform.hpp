// From the pixels of a canvas to the pixels of a frame, through whatever lies between them: mount, optics, colour
// plane.
//
// A position of the canvas is freed of the distortion of the canvas's own lens where it has one (a canvas that is the
// grid of an exposure does), goes through a projective map, then through the distortion of the frame's lens where one
// is known, then by a shift. Between ideal images of one point of view a projective map is all there can be, whatever
// the angle (R. Hartley and A. Zisserman, Multiple View Geometry, 2004, section 8.4). The tile path asks for the
// positions of whole rows: those of an affine map are sums of whole numbers, in fixed point; others are exact at nodes
// that are fixed to the canvas, and follow a cubic between them, counted in blocks that are fixed as well. So the
// position of a pixel, and with it its value, does not depend on the rectangle in which it is asked for.
//
// The room holds, beside this:
//   affine.hpp      affine maps, the linear part of most transforms
//   canvas.hpp      the pixel grid of an output
//   framing.hpp     which part of the sky an output shows
//   row_kernel.hpp  the loop over the positions of a row
#pragma once

#include <kasane/base/units.hpp>
#include <kasane/geometry/affine.hpp>
#include <kasane/image/image.hpp>

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace kasane {

struct SplitRow;

struct Point {
    double x = 0, y = 0; ///< pixels, centres at integers
    bool operator==(const Point&) const = default;
};

/// A rectangle of positions, ends included.
struct Bounds {
    double left = 0, top = 0, right = 0, bottom = 0;
};

/// The distortion of an optic, which all frames of a rig share, or of a wide canvas: where it puts what an ideal one
/// would put at a position. p' = c + d (1 + k1 r^2 + k2 r^4 + k3 r^6) + decentring, with d = p - c and r = |d| / radius
/// (D. Brown, Photogrammetric Engineering 37, 1971). NaN from where on it folds: beyond, it would show things twice.
struct Lens {
    Point centre;                       ///< of the frame, pixels
    double radius = 1;                  ///< pixels that r counts as 1, half the diagonal say; positive
    std::array<double, 3> radial{};     ///< k1, k2, k3
    std::array<double, 2> decentring{}; ///< p1, p2
    /// Positive: no lens, but the stereographic picture about `centre` of what a plane so many pixels away shows; the
    /// numbers above are not used. A plane that is tangent to the sky stretches what lies far from where it touches,
    /// without end towards 90 degrees; this keeps angles, and grows by 1 / cos^2 of half the distance (M. Calabretta
    /// and E. Greisen, A&A 395, 2002, sections 5.1.1 and 5.1.4).
    double stereographic = 0;
    Point distort(Point ideal) const;
    /// The position that `distort` brings to `seen`, by Newton's method to 1e-9 pixels; NaN where there is none.
    Point correct(Point seen) const;
    bool operator==(const Lens&) const = default;
};

class Transform {
public:
    /// The places that positions are interpolated between, of the parts of the canvas that were asked for last. For
    /// one transform after the other: those of one canvas share what its lens does.
    class Patches {
    public:
        /// The next rows are those of another transform.
        void restart() {
            known_.clear();
            next_ = last_ = 0;
        }

    private:
        friend class Transform;
        struct Patch {
            int x = 0, y = 0;                            ///< of its first pixel
            std::array<std::array<Point, 4>, 4> nodes{}; ///< by column: where its places lie
            /// Newton's divided differences, from row to row, of what the cubics along rows are made of: those of u,
            /// then those of v.
            std::array<std::array<double, 8>, 4> cubics{};
            std::array<std::int32_t, 2> strides{};
            bool plain = true; ///< all of them are numbers within reach
        };
        /// A place of the canvas, in thirds of a patch, freed of the distortion of the canvas's lens.
        struct Ideal {
            int i = 0, j = 0;
            Point at{kNoData, kNoData};
            bool known = false;
        };
        std::vector<Patch> known_;
        std::size_t next_ = 0, last_ = 0; ///< to be made anew; that was asked for
        std::shared_ptr<const Lens> canvas_lens_;
        Affine canvas_;
        std::vector<Ideal> ideal_; ///< by i and j, the last of those that come to the same entry
    };

    /// Every pixel onto itself.
    Transform() = default;
    Transform(const Affine& affine); // NOLINT: an affine map is a transform
    /// u = (m0 x + m1 y + m2) / w, v = (m3 x + m4 y + m5) / w, w = m6 x + m7 y + m8, then `lens` (may be null). Throws
    /// DataError if the matrix has no inverse.
    explicit Transform(const std::array<double, 9>& projective, std::shared_ptr<const Lens> lens = nullptr);
    /// The same from a canvas that `canvas_lens` has distorted (may be null).
    Transform(const std::array<double, 9>& projective, std::shared_ptr<const Lens> lens,
              std::shared_ptr<const Lens> canvas_lens);

    /// Where a position of the canvas lies in the frame.
    Point map(Point canvas) const;
    /// The position of the canvas that lies there in the frame; NaN where there is none.
    Point unmap(Point frame) const;
    /// The affine map that touches it at a position of the canvas: its six numbers are value and first derivatives.
    Affine at(Point canvas) const;
    /// A rectangle that holds what the pixels of `region` map to: no larger than need be for affine maps, by at most a
    /// hundredth of its bend for others.
    Bounds bounds(const Region& region) const;

    /// What the border of `region` (the centres of its outermost pixels) maps to: points one after the other round it,
    /// and by how much the map may leave the straight lines between them.
    struct Outline {
        std::vector<Point> points;
        double margin = 0;
    };
    Outline outline(const Region& region) const;

    /// Positions of `count` pixels of row `y` of the canvas from column `x` on. Within patches of kPatch x kPatch
    /// pixels, the bicubic through sixteen places errs by less than kPatch^4 / 1944 times the fourth derivatives along
    /// both axes: a radial distortion that grows with the cube of the distance is a cubic itself. Single precision adds
    /// a millionth of a pixel. `patches` keeps what rows of one part of the canvas share. Whether the positions lie
    /// evenly.
    bool row(int x, int y, int count, const SplitRow& out, Patches& patches) const;
    /// The same in units of 2^-32 pixels.
    void row(int x, int y, int count, std::int64_t* u, std::int64_t* v, Patches& patches) const;
    static constexpr int kPatch = 128;
    /// Of an affine map positions lie evenly along rows, and rows do: those of the first, the steps, as `row` tells
    /// them.
    struct EvenRow {
        std::int64_t u, du, v, dv;
    };
    std::optional<EvenRow> even_row(int x, int y) const;

    /// The same, then a shift in the frame.
    Transform shifted(double dx, double dy) const;
    /// First `canvas` (from another canvas to this one), then this.
    Transform after(const Affine& canvas) const;

    bool is_affine() const { return affine_ && !lens_ && !canvas_lens_; }
    const std::array<double, 9>& projective() const { return matrix_; }
    const std::shared_ptr<const Lens>& lens() const { return lens_; }
    const std::shared_ptr<const Lens>& canvas_lens() const { return canvas_lens_; }
    /// Before all else, from the canvas to the pixels that `canvas_lens` distorted; of others it is part of the matrix.
    const Affine& canvas() const { return canvas_; }
    /// After all else, pixels of the frame; that of an affine map is part of its matrix.
    Point shift() const { return shift_; }

private:
    void settle();
    const Patches::Patch& patch(int x, int y, Patches& patches) const;
    Point node(int i, int j, Patches& patches) const;
    Affine affine_part() const;
    Point exact(Point canvas) const;
    Point ideal(Point canvas) const;
    Point from_ideal(Point ideal) const;

    Affine canvas_; ///< nothing but where there is a lens of the canvas
    std::shared_ptr<const Lens> canvas_lens_;
    std::array<double, 9> matrix_{1, 0, 0, 0, 1, 0, 0, 0, 1};
    std::array<double, 9> inverse_{1, 0, 0, 0, 1, 0, 0, 0, 1};
    bool affine_ = true; ///< the matrix is
    std::shared_ptr<const Lens> lens_;
    Point shift_;
};

} // namespace kasane

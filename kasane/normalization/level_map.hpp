// What brings a frame to the level of its stack: normalised = scale * value + offset, both smooth over the canvas.
//
// Each of the two is a plane, and where a plane is not enough a lattice of small numbers on top of it. Whoever makes a
// map fills in as much of it as the data determine; whoever applies it need not know.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/image/image.hpp>

#include <array>
#include <string>
#include <vector>

namespace kasane {

/// The coefficients that tell at a place, along one side of a lattice.
struct LatticeBasis {
    int first = 0; ///< of four coefficients along one side, by index
    std::array<double, 4> weights{};
};

/// Uniform cubic B-splines over the canvas (C. de Boor, A Practical Guide to Splines, 1978): smooth up to the second
/// derivative, and a coefficient changes nothing farther than two steps away. Coefficient (i, j) belongs to the place
/// ((i - 1) step, (j - 1) step), so that a canvas of w x h pixels needs floor((w - 1) / step) + 4 columns, rows alike.
struct Lattice {
    double step = 0; ///< pixels of the canvas between coefficients; positive
    int columns = 0, rows = 0;
    std::vector<float> coefficients; ///< row by row

    /// All zero, for a canvas of this size.
    static Lattice over(const Canvas& canvas, double step);
    bool empty() const { return coefficients.empty(); }
    double at(double x, double y) const;
    /// Along one side of `count` coefficients.
    LatticeBasis basis_at(double place, int count) const;
    bool operator==(const Lattice&) const = default;
};

/// A smooth quantity: value + slope_x (x - centre.x) + slope_y (y - centre.y) + lattice.
struct SmoothMap {
    double value = 0;                ///< at the centre, without the lattice
    double slope_x = 0, slope_y = 0; ///< per pixel of the canvas
    Lattice lattice;

    bool constant() const { return slope_x == 0 && slope_y == 0 && lattice.empty(); }
    bool operator==(const SmoothMap&) const = default;
};

/// The values of a lattice at the pixels of rows of the canvas, all from column `x` on: what rows have in common is
/// worked out once. A pixel's value does not depend on a row's ends.
class LatticeRows {
public:
    /// The lattice has to stay.
    LatticeRows(const Lattice& lattice, int x, int width);
    /// Adds those of row `y` to as many values.
    void add(int y, float* to);

private:
    /// Columns within one step of the lattice.
    struct Stretch {
        int first;           ///< of its four coefficients
        int from, at, count; ///< columns: from the first of the step, from that of the row, and how many
        float start;         ///< how far behind the step's begin its first column lies, in steps
    };
    const Lattice& lattice_;
    std::vector<Stretch> stretches_;
    std::vector<double> columns_; ///< of the row at hand, from the first stretch's first coefficient on
};

struct LevelMap {
    Point centre; ///< of the canvas: where the planes have their value
    SmoothMap scale{1, 0, 0, {}};
    SmoothMap offset; ///< ADU of the stack's level

    double scale_at(Point canvas) const { return value_at(scale, canvas); }
    double offset_at(Point canvas) const { return value_at(offset, canvas); }
    /// The same on another canvas, whose pixels `to_here` brings to those of this one. Its lattices are five times as
    /// fine as these, interpolated (quasi-interpolation by cubic splines, exact for cubics: C. de Boor, A Practical
    /// Guide to Splines, 1978, chapter XII).
    LevelMap onto(const Canvas& canvas, const Affine& to_here) const;
    /// What is wrong with it, in words; empty: nothing.
    std::string check() const;
    bool operator==(const LevelMap&) const = default;

private:
    double value_at(const SmoothMap& map, Point canvas) const;
};

/// A level map on its way down the rows of some columns. What a sample becomes does not depend on a row's ends.
class LevelRows {
public:
    /// Columns from `x` on. The map has to stay.
    LevelRows(const LevelMap& map, int x, int width);
    /// Brings the samples of row `y` of the canvas to the stack's level. Whether all of them are finite.
    bool apply(int y, float* samples);

private:
    const LevelMap& map_;
    int x_, width_;
    LatticeRows scale_, offset_;
    std::vector<float> scales_, offsets_; ///< empty where there are planes at most
};

} // namespace kasane

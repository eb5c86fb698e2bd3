// A smooth map through scattered values, as smooth as they ask for.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/normalization/level_map.hpp>

#include <vector>

namespace kasane {

struct LevelSample {
    double x = 0, y = 0; ///< pixels of the canvas
    double value = 0;
    double weight = 1; ///< of its square, to any sum; what is held to a plane or a constant takes no notice of it
};

/// The mean of the values, outliers weighed down. 0 without any.
SmoothMap fit_constant(const std::vector<LevelSample>& samples);
/// A plane through them, outliers weighed down; a constant where they do not determine one.
SmoothMap fit_plane(const std::vector<LevelSample>& samples, const Canvas& canvas);

/// What a map is held to. A penalty on second differences holds it to a plane, one on third differences to a surface of
/// second order, which costs more parameters and bends freely up to the edges.
struct Smoothness {
    int order = 2;                        ///< of the differences, 2 or 3
    double penalty = kStiff;              ///< in units of what the values weigh
    static constexpr double kStiff = 1e6; ///< leaves nothing but what it holds to
    bool plane() const { return order == 2 && penalty >= kStiff; }
    bool operator==(const Smoothness&) const = default;
};

/// A plane, and on it a lattice of cubic B-splines that is held smooth by a penalty on differences of its coefficients
/// (P. Eilers and B. Marx, Statist. Sci. 11, 1996: P-splines): where there are no values it goes on as it is held to.
class SmoothFit {
public:
    /// Coefficients are as far apart as two of the samples' `spacing`, and no closer than a twelfth of the canvas.
    SmoothFit(const Canvas& canvas, double spacing);
    /// What the values ask for: by generalised cross-validation (P. Craven and G. Wahba, Numer. Math.
    /// 31, 1979), each parameter counted 1.4 times against overfitting (Y.-J. Kim and C. Gu, J. R. Stat. Soc. B 66,
    /// 2004), and that 1.7 times, for values half a cell apart share some of their noise. Without enough values what
    /// leaves a plane.
    Smoothness choose(const std::vector<LevelSample>& samples) const;
    /// Outliers do not count.
    SmoothMap fit(const std::vector<LevelSample>& samples, const Smoothness& smoothness) const;

private:
    Canvas canvas_;
    Lattice empty_;
};

} // namespace kasane

// A smooth map through scattered values, as smooth as they ask for.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/normalization/level_map.hpp>

#include <optional>
#include <vector>

namespace kasane {

struct LevelSample {
    double x = 0, y = 0; ///< pixels of the canvas
    double value = 0;
};

/// The mean of the values, outliers weighed down. 0 without any.
SmoothMap fit_constant(const std::vector<LevelSample>& samples);
/// A plane through them, outliers weighed down; a constant where they do not determine one.
SmoothMap fit_plane(const std::vector<LevelSample>& samples, const Canvas& canvas);

/// A plane, and on it a lattice of cubic B-splines that is held flat by a penalty on its second differences (P. Eilers
/// and B. Marx, Statist. Sci. 11, 1996: P-splines): where there are no values it goes on straight.
class SmoothFit {
public:
    /// Coefficients are as far apart as two of the samples' `spacing`, and no closer than a twelfth of the canvas.
    SmoothFit(const Canvas& canvas, double spacing);
    /// How much of a penalty the values ask for: by generalised cross-validation (P. Craven and G. Wahba, Numer. Math.
    /// 31, 1979), each parameter counted 1.4 times against overfitting (Y.-J. Kim and C. Gu, J. R. Stat. Soc. B 66,
    /// 2004). Without enough values the greatest, which leaves a plane.
    double choose_penalty(const std::vector<LevelSample>& samples) const;
    /// Outliers do not count.
    SmoothMap fit(const std::vector<LevelSample>& samples, double penalty) const;
    /// The penalty that leaves nothing but a plane.
    static constexpr double kStiff = 1e6;

private:
    struct Equations;
    Equations equations(const std::vector<LevelSample>& samples, const SmoothMap& plane,
                        const std::vector<double>& share) const;
    std::optional<SmoothMap> solve(const SmoothMap& plane, const Equations& equations, double penalty) const;
    std::vector<float> left_by(const SmoothMap& map, const std::vector<LevelSample>& samples) const;
    std::vector<double> without_outliers(const std::vector<LevelSample>& samples, const SmoothMap& plane) const;
    Canvas canvas_;
    Lattice empty_;
};

} // namespace kasane

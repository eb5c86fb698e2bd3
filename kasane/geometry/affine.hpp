// Affine maps between pixel grids.
#pragma once

#include <array>

namespace kasane {

/// x' = a x + b y + c, y' = d x + e y + f.
struct Affine {
    double a = 1, b = 0, c = 0, d = 0, e = 1, f = 0;

    void apply(double x, double y, double& u, double& v) const {
        u = a * x + b * y + c;
        v = d * x + e * y + f;
    }
    double determinant() const { return a * e - b * d; }
    bool mirrors() const { return determinant() < 0; }
    double scale() const;    ///< geometric mean of the two axes
    double rotation() const; ///< degrees, counter-clockwise as displayed, -180..180
    Affine inverse() const;
    /// First `first`, then this.
    Affine after(const Affine& first) const;
    std::array<double, 6> coefficients() const { return {a, b, c, d, e, f}; }
};

} // namespace kasane

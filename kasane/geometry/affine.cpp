#include <kasane/geometry/affine.hpp>

#include <kasane/base/units.hpp>

#include <cmath>

namespace kasane {

double Affine::scale() const {
    return std::sqrt(std::abs(determinant()));
}

double Affine::rotation() const {
    return degrees(mirrors() ? std::atan2(-d, a) : std::atan2(b - d, a + e)); // y runs down
}

Affine Affine::inverse() const {
    const double det = determinant();
    Affine r{e / det, -b / det, 0, -d / det, a / det, 0};
    r.c = -(r.a * c + r.b * f);
    r.f = -(r.d * c + r.e * f);
    return r;
}

Affine Affine::after(const Affine& g) const {
    return {a * g.a + b * g.d, a * g.b + b * g.e, a * g.c + b * g.f + c,
            d * g.a + e * g.d, d * g.b + e * g.e, d * g.c + e * g.f + f};
}

} // namespace kasane

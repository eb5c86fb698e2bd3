#include <kasane/registration/model.hpp>

#include <cmath>

namespace kasane {

const char* Model::mapping_name() const {
    switch (mapping) {
    case Mapping::shift:
        return "shift";
    case Mapping::similarity:
        return "similarity";
    case Mapping::affine:
        return "affine";
    case Mapping::projective:
        return "projective";
    }
    return "";
}

const char* Model::optics_name() const {
    switch (optics) {
    case Optics::none:
        return "";
    case Optics::radial:
        return "radial distortion";
    case Optics::centred:
        return "radial distortion about its own axis";
    case Optics::full:
        return "radial and decentring distortion";
    }
    return "";
}

std::string Model::text() const {
    return optics == Optics::none ? mapping_name() : std::string(mapping_name()) + " with " + optics_name();
}

std::optional<Model> model_named(const std::string& word) {
    if (word == "lens") return Model{Mapping::projective, Optics::centred};
    for (const Mapping m : {Mapping::shift, Mapping::similarity, Mapping::affine, Mapping::projective})
        if (const Model model{m, Optics::none}; word == model.mapping_name()) return model;
    return std::nullopt;
}

std::string model_text(const std::optional<Model>& model) {
    if (!model) return "auto";
    return model->optics != Optics::none ? "lens" : model->mapping_name();
}

int freedom(Mapping mapping) {
    switch (mapping) {
    case Mapping::shift:
        return 2;
    case Mapping::similarity:
        return 4;
    case Mapping::affine:
        return 6;
    case Mapping::projective:
        return 8;
    }
    return 0;
}

std::array<bool, kLensNumbers> free_numbers(Optics optics) {
    const bool radial = optics != Optics::none, second = radial && optics != Optics::radial,
               all = optics == Optics::full;
    return {radial, second, all, all, all, second, second};
}

int freedom(Optics optics) {
    int n = 0;
    for (const bool f : free_numbers(optics))
        n += f;
    return n;
}

Normal Normal::of(int width, int height) {
    return {{0.5 * (width - 1), 0.5 * (height - 1)}, 0.5 * std::hypot(width, height)};
}

MappingSlopes mapping_slopes(const Matrix3& m, Mapping mapping, const Eigen::Vector2d& p) {
    MappingSlopes s;
    const double x = p.x(), y = p.y(), w = m(2, 0) * x + m(2, 1) * y + m(2, 2);
    const double u = (m(0, 0) * x + m(0, 1) * y + m(0, 2)) / w, v = (m(1, 0) * x + m(1, 1) * y + m(1, 2)) / w;
    s.at = {u, v};
    s.by_position << (m(0, 0) - u * m(2, 0)) / w, (m(0, 1) - u * m(2, 1)) / w, (m(1, 0) - v * m(2, 0)) / w,
        (m(1, 1) - v * m(2, 1)) / w;
    s.by_mapping.setZero();
    switch (mapping) {
    case Mapping::shift:
        s.by_mapping.leftCols<2>() << 1, 0, 0, 1;
        break;
    case Mapping::similarity: {
        const double h = m(0, 0) * m(1, 1) - m(0, 1) * m(1, 0) < 0 ? -1 : 1; // c, s, u0, v0
        s.by_mapping.leftCols<4>() << x, -h * y, 1, 0, h * y, x, 0, 1;
        break;
    }
    case Mapping::affine:
        s.by_mapping.leftCols<6>() << x, y, 1, 0, 0, 0, 0, 0, 0, x, y, 1;
        break;
    case Mapping::projective:
        s.by_mapping << x / w, y / w, 1 / w, 0, 0, 0, -u * x / w, -u * y / w, 0, 0, 0, x / w, y / w, 1 / w, -v * x / w,
            -v * y / w;
        break;
    }
    return s;
}

Matrix3 restricted(const Matrix3& map, Mapping mapping) {
    Matrix3 m = map;
    if (mapping != Mapping::projective) m.row(2) << 0, 0, 1;
    if (mapping == Mapping::shift) { // as it was, or behind the meridian, where it is nearly so
        constexpr double kNearly = 0.1;
        for (const double side : {1., -1.})
            if ((m.topLeftCorner<2, 2>() - side * Eigen::Matrix2d::Identity()).norm() < kNearly)
                m.topLeftCorner<2, 2>() = side * Eigen::Matrix2d::Identity();
    }
    if (mapping != Mapping::similarity) return m;
    const double h = m.topLeftCorner<2, 2>().determinant() < 0 ? -1 : 1;
    const double c = 0.5 * (m(0, 0) + h * m(1, 1)), s = 0.5 * (m(1, 0) - h * m(0, 1));
    m.topLeftCorner<2, 2>() << c, -h * s, s, h * c;
    return m;
}

void step(Matrix3& m, Mapping mapping, const double* by) {
    switch (mapping) {
    case Mapping::shift:
        m(0, 2) += by[0];
        m(1, 2) += by[1];
        break;
    case Mapping::similarity: {
        const double h = m(0, 0) * m(1, 1) - m(0, 1) * m(1, 0) < 0 ? -1 : 1;
        const double c = m(0, 0) + by[0], s = m(1, 0) + by[1];
        m.topLeftCorner<2, 2>() << c, -h * s, s, h * c;
        m(0, 2) += by[2];
        m(1, 2) += by[3];
        break;
    }
    case Mapping::affine:
    case Mapping::projective:
        for (int i = 0; i < freedom(mapping); ++i)
            m(i / 3, i % 3) += by[i];
        break;
    }
}

LensNumbers lens_prior() {
    LensNumbers s;
    s << 0.1, 0.05, 0.02, 0.01, 0.01, 0.1, 0.1;
    return s;
}

LensSlopes lens_slopes(const LensNumbers& l, const Eigen::Vector2d& w) {
    const Eigen::Vector2d c(l[5], l[6]), e = w - c;
    const double x = e.x(), y = e.y(), r2 = e.squaredNorm();
    const double g = 1 + r2 * (l[0] + r2 * (l[1] + r2 * l[2]));
    const double dg = 2 * (l[0] + r2 * (2 * l[1] + r2 * 3 * l[2]));
    LensSlopes s;
    s.at = c + g * e +
           Eigen::Vector2d(2 * l[3] * x * y + l[4] * (r2 + 2 * x * x), l[3] * (r2 + 2 * y * y) + 2 * l[4] * x * y);
    const double cross = dg * x * y + 2 * l[3] * x + 2 * l[4] * y;
    s.by_position << g + dg * x * x + 2 * l[3] * y + 6 * l[4] * x, cross, cross,
        g + dg * y * y + 6 * l[3] * y + 2 * l[4] * x;
    s.by_lens.col(0) = r2 * e;
    s.by_lens.col(1) = r2 * r2 * e;
    s.by_lens.col(2) = r2 * r2 * r2 * e;
    s.by_lens.col(3) = Eigen::Vector2d(2 * x * y, r2 + 2 * y * y);
    s.by_lens.col(4) = Eigen::Vector2d(r2 + 2 * x * x, 2 * x * y);
    s.by_lens.rightCols<2>() = Eigen::Matrix2d::Identity() - s.by_position;
    return s;
}

Eigen::Vector2d undistorted(const LensNumbers& lens, const Eigen::Vector2d& seen) {
    if (lens.head<5>().isZero()) return seen;
    constexpr int kSteps = 20;
    constexpr double kEnough = 1e-13;
    Eigen::Vector2d w = seen;
    for (int i = 0; i < kSteps; ++i) {
        const LensSlopes s = lens_slopes(lens, w);
        const Eigen::Vector2d d = seen - s.at;
        if (d.squaredNorm() < kEnough * kEnough) return w;
        if (!(s.by_position.determinant() > 0.05)) return seen;
        w += s.by_position.inverse() * d;
    }
    return w;
}

std::shared_ptr<const Lens> lens_of(const LensNumbers& l, const Normal& n) {
    if (l.head<5>().isZero()) return nullptr;
    return std::make_shared<const Lens>(Lens{n.out({l[5], l[6]}), n.radius, {l[0], l[1], l[2]}, {l[3], l[4]}});
}

LensNumbers numbers_of(const Lens* lens, const Normal& n) {
    LensNumbers l = LensNumbers::Zero();
    if (!lens) return l;
    const double s = n.radius / lens->radius, s2 = s * s; // of the unit in which r counts
    l << lens->radial[0] * s2, lens->radial[1] * s2 * s2, lens->radial[2] * s2 * s2 * s2, lens->decentring[0] * s,
        lens->decentring[1] * s, 0, 0;
    l.tail<2>() = n.in(lens->centre);
    return l;
}

namespace {
Matrix3 to_pixels(const Normal& n) {
    Matrix3 m;
    m << n.radius, 0, n.centre.x, 0, n.radius, n.centre.y, 0, 0, 1;
    return m;
}
} // namespace

std::array<double, 9> pixel_matrix(const Matrix3& map, const Normal& from, const Normal& to) {
    Matrix3 m = to_pixels(to) * map * to_pixels(from).inverse();
    const bool affine = map(2, 0) == 0 && map(2, 1) == 0;
    if (affine)
        m.row(2) << 0, 0, 1;
    else
        m /= m(2, 2);
    return {m(0, 0), m(0, 1), m(0, 2), m(1, 0), m(1, 1), m(1, 2), m(2, 0), m(2, 1), m(2, 2)};
}

Matrix3 normal_matrix(const std::array<double, 9>& p, const Normal& from, const Normal& to) {
    Matrix3 m;
    m << p[0], p[1], p[2], p[3], p[4], p[5], p[6], p[7], p[8];
    m = to_pixels(to).inverse() * m * to_pixels(from);
    return m / m(2, 2);
}

} // namespace kasane

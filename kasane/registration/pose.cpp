#include <kasane/registration/pose.hpp>

#include <cmath>

namespace kasane {

namespace {

Eigen::Matrix2d turn_of(const CameraPose& p) {
    const double h = p.mirrored ? -1 : 1, c = std::exp(p.growth) * std::cos(p.turn),
                 s = std::exp(p.growth) * std::sin(p.turn);
    Eigen::Matrix2d turn;
    turn << c, -h * s, s, h * c;
    return turn;
}

Eigen::Matrix2d stretch_of(const CameraPose& p) {
    Eigen::Matrix2d stretch;
    stretch << 1 + p.stretch.x(), p.stretch.y(), p.stretch.y(), 1 - p.stretch.x();
    return stretch;
}

/// From the reference's plane to the one that is tangent at `t`: ((1 + c T^2) u - c t (t.u) - t) / (1 + k t.u), with
/// c = k / (q + 1) and q = sqrt(1 + k T^2).
struct Tangent {
    double q, c;
    Tangent(const Eigen::Vector2d& t, double k) : q(std::sqrt(1 + k * t.squaredNorm())), c(k / (q + 1)) {}
};

} // namespace

Matrix3 CameraPose::map(double k) const {
    const Tangent plane(at, k);
    Matrix3 m = Matrix3::Identity();
    m.topLeftCorner<2, 2>() =
        (1 + plane.c * at.squaredNorm()) * Eigen::Matrix2d::Identity() - plane.c * at * at.transpose();
    m.topRightCorner<2, 1>() = -at;
    m.bottomLeftCorner<1, 2>() = k * at.transpose();
    m.topRows<2>() = (stretch_of(*this) * turn_of(*this) * m.topRows<2>()).eval();
    return m;
}

CameraPose CameraPose::of(const Matrix3& map, double k) {
    const Eigen::Vector3d axis = map.inverse().col(2);
    CameraPose p;
    p.at = axis.head<2>() / axis.z();
    const Eigen::Matrix2d slope = mapping_slopes(map, Mapping::projective, p.at).by_position;
    const Tangent plane(p.at, k);
    const Eigen::Matrix2d own =
        ((1 + plane.c * p.at.squaredNorm()) * Eigen::Matrix2d::Identity() - plane.c * p.at * p.at.transpose()) /
        (plane.q * plane.q);
    const Eigen::Matrix2d turn = slope * own.inverse();
    p.mirrored = turn.determinant() < 0;
    const double h = p.mirrored ? -1 : 1;
    const double c = 0.5 * (turn(0, 0) + h * turn(1, 1)), s = 0.5 * (turn(1, 0) - h * turn(0, 1));
    p.turn = std::atan2(s, c);
    p.growth = std::log(std::hypot(c, s));
    return p;
}

PoseSlopes pose_slopes(const CameraPose& pose, double k, const Eigen::Vector2d& u) {
    const Eigen::Vector2d& t = pose.at;
    const Tangent plane(t, k);
    const double tt = t.squaredNorm(), tu = t.dot(u), w = 1 + k * tu, q1 = plane.q + 1;
    const Eigen::Vector2d bow = tt * u - t * tu; // what c multiplies
    const Eigen::Vector2d there = (u - t + plane.c * bow) / w;
    const Eigen::Matrix2d one = Eigen::Matrix2d::Identity();
    const Eigen::Matrix2d by_u =
        ((1 + plane.c * tt) * one - plane.c * t * t.transpose() - k * there * t.transpose()) / w;
    const Eigen::Vector2d c_by_t = -k / (q1 * q1) * (k / plane.q) * t;
    const Eigen::Matrix2d by_t =
        (-one + bow * c_by_t.transpose() + plane.c * (2 * u * t.transpose() - tu * one - t * u.transpose()) -
         k * there * u.transpose()) /
        w;
    const double c_by_k = 1 / q1 - k / (q1 * q1) * tt / (2 * plane.q);
    const Eigen::Vector2d by_k = (c_by_k * bow - there * tu) / w;

    const Eigen::Matrix2d stretch = stretch_of(pose), whole = stretch * turn_of(pose);
    const Eigen::Vector2d turned = turn_of(pose) * there;
    PoseSlopes s;
    s.at = whole * there;
    s.by_position = whole * by_u;
    s.by_pose.leftCols<2>() = whole * by_t;
    s.by_pose.col(2) = stretch * Eigen::Vector2d(-turned.y(), turned.x());
    s.by_pose.col(3) = s.at;
    s.by_pose.col(4) = Eigen::Vector2d(turned.x(), -turned.y());
    s.by_pose.col(5) = Eigen::Vector2d(turned.y(), turned.x());
    s.by_curvature = whole * by_k;
    return s;
}

void step(CameraPose& pose, int count, const double* by) {
    pose.at += Eigen::Vector2d(by[0], by[1]);
    pose.turn += by[2];
    pose.growth += by[3];
    if (count > 4) pose.stretch += Eigen::Vector2d(by[4], by[5]);
}

} // namespace kasane

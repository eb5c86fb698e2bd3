// Where a camera points: what may lie between exposures of one instrument that was turned to several fields.
//
// A map of eight free numbers between two fields that share a strip is led by the strip alone and goes wild at the far
// side. What can happen is less: the plane of the reference is tangent to the sky where the reference points, that of
// another exposure where that one does, and between two tangent planes lies a gnomonic projection that one number of
// the instrument settles, the square of its plane's radius over the focal length (M. Calabretta and E. Greisen, A&A
// 395, 2002, section 5.1.3; R. Hartley and A. Zisserman, Multiple View Geometry, 2004, section 8.4: a rotating camera).
// That leaves a place, a turn and a scale, and where the air bends light unequally a little stretch.
#pragma once

#include <kasane/registration/model.hpp>

#include <Eigen/Dense>

namespace kasane {

/// In normal coordinates of the reference and of the frame (model.hpp).
struct CameraPose {
    Eigen::Vector2d at = Eigen::Vector2d::Zero();      ///< of the reference's plane, where the frame's axis points
    double turn = 0;                                   ///< radians
    double growth = 0;                                 ///< logarithm of the scale
    bool mirrored = false;                             ///< its rows run the other way
    Eigen::Vector2d stretch = Eigen::Vector2d::Zero(); ///< (e, s): the plane times ((1 + e, s), (s, 1 - e))

    /// The projective map from the reference's plane to the frame's, its last element 1. `curvature` is the square of
    /// the reference's radius over its focal length; 0: a flat sky.
    Matrix3 map(double curvature) const;
    /// The pose that comes nearest to a map where the frame's axis points.
    static CameraPose of(const Matrix3& map, double curvature);
};

/// A position through a pose, with the derivatives by the position, the pose's numbers (at, turn, growth, stretch) and
/// the curvature.
struct PoseSlopes {
    Eigen::Vector2d at;
    Eigen::Matrix2d by_position;
    Eigen::Matrix<double, 2, 6> by_pose;
    Eigen::Vector2d by_curvature;
};
PoseSlopes pose_slopes(const CameraPose& pose, double curvature, const Eigen::Vector2d& position);

/// The pose after a step of its first `count` numbers, 4 or 6.
void step(CameraPose& pose, int count, const double* by);

} // namespace kasane

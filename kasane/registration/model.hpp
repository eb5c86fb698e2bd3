// What may lie between two exposures of one sky, and its derivatives: the numbers that a fit may turn.
//
// Ideal images of one point of view differ by a projective map, of which shifts, similarities and affine maps are
// special cases that need fewer stars; what the glass did to each is a lens (geometry/transform.hpp). Both are written
// here in normal coordinates, the frame's middle 0 and half its diagonal 1, in which all numbers are of one size.
#pragma once

#include <kasane/geometry/transform.hpp>

#include <Eigen/Dense>
#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>

namespace kasane {

/// What lies between the ideal images.
enum class Mapping : std::uint8_t { shift, similarity, affine, projective };

/// What is asked of a lens: nothing; its first radial term; two radial terms and where its axis is; and all (three
/// radial terms, decentring, axis).
enum class Optics : std::uint8_t { none, radial, centred, full };

/// A model in words: "affine, radial distortion".
struct Model {
    Mapping mapping = Mapping::affine;
    Optics optics = Optics::none;
    bool operator==(const Model&) const = default;
    const char* mapping_name() const;
    const char* optics_name() const; ///< "" for none
    std::string text() const;        ///< "affine with radial distortion"
};

/// "shift", "similarity", "affine", "projective", or "lens": projective, with distortion about an axis of its own.
/// Nothing for other words.
std::optional<Model> model_named(const std::string& word);
/// The word; "auto" for nothing.
std::string model_text(const std::optional<Model>& model);

/// Numbers that are free.
int freedom(Mapping mapping);
int freedom(Optics optics);

/// The middle of a frame and half its diagonal, pixels.
struct Normal {
    Point centre;
    double radius = 1;
    Eigen::Vector2d in(Point p) const { return {(p.x - centre.x) / radius, (p.y - centre.y) / radius}; }
    Point out(const Eigen::Vector2d& n) const { return {centre.x + radius * n.x(), centre.y + radius * n.y()}; }
    static Normal of(int width, int height);
};

using Matrix3 = Eigen::Matrix3d; ///< of a projective map in normal coordinates, its last element 1

/// A position through a map, with the derivatives by the position and by the free numbers of the mapping.
struct MappingSlopes {
    Eigen::Vector2d at;
    Eigen::Matrix2d by_position;
    Eigen::Matrix<double, 2, 8> by_mapping;
};
MappingSlopes mapping_slopes(const Matrix3& map, Mapping mapping, const Eigen::Vector2d& position);
/// The nearest map of a kind, where fits begin: of a similarity its scale and turn, of an affine map no perspective.
Matrix3 restricted(const Matrix3& map, Mapping mapping);
/// The map after a step of its free numbers.
void step(Matrix3& map, Mapping mapping, const double* by);

/// k1, k2, k3, p1, p2 and the axis of a lens, in normal coordinates.
constexpr int kLensNumbers = 7;
using LensNumbers = Eigen::Matrix<double, kLensNumbers, 1>;
/// Which of them an optics lets free, in their order.
std::array<bool, kLensNumbers> free_numbers(Optics optics);
/// What is known of any lens before a fit: standard deviations about 0. Weak, so that it decides only what the stars
/// leave open.
LensNumbers lens_prior();

/// A position through a lens, with the derivatives by the position and by its numbers.
struct LensSlopes {
    Eigen::Vector2d at;
    Eigen::Matrix2d by_position;
    Eigen::Matrix<double, 2, kLensNumbers> by_lens;
};
LensSlopes lens_slopes(const LensNumbers& lens, const Eigen::Vector2d& position);
/// The position that the lens brings to `seen` (Newton); `seen` itself where there is none.
Eigen::Vector2d undistorted(const LensNumbers& lens, const Eigen::Vector2d& seen);

/// Between numbers and lenses in pixels. A lens of zeros is none (null).
std::shared_ptr<const Lens> lens_of(const LensNumbers& lens, const Normal& normal);
LensNumbers numbers_of(const Lens* lens, const Normal& normal);

/// Between maps in normal coordinates and in pixels.
std::array<double, 9> pixel_matrix(const Matrix3& map, const Normal& from, const Normal& to);
Matrix3 normal_matrix(const std::array<double, 9>& pixels, const Normal& from, const Normal& to);

} // namespace kasane

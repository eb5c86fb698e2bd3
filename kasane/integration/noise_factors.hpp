// What resampling, and demosaicing before it, do to the noise of a frame.
#pragma once

#include <kasane/integration/stack.hpp>

#include <map>
#include <span>
#include <utility>
#include <vector>

namespace kasane {

/// Mean of the squared interpolation weights over a frame: by how much resampling lowers the variance of white noise.
double resampling_noise_factor(const Transform& to_frame, const Canvas& canvas);

/// The same for the planes of a kind of source: of those whose samples share noise with what makes them so
/// (PlaneSource::white_noise), in units of the variance of a sensor pixel of the plane.
class NoiseFactors {
public:
    /// `noise` are the standard deviations of the samples of each plane: where planes are interpolated, one has of the
    /// noise of the others.
    NoiseFactors(const PlaneSource& source, std::span<const double> noise) : fields_(source.white_noise(noise)) {}
    double factor(int plane, const Transform& to_frame, const Canvas& canvas) const;

private:
    std::vector<Image> fields_;
};

/// Those of all the sources of a stack, one for each kind, by the usual noise of its planes: sources of one size are of
/// one kind.
class StackNoiseFactors {
public:
    explicit StackNoiseFactors(const std::vector<StackFrame>& frames);
    const NoiseFactors& of(const StackFrame& frame) const;

private:
    std::map<std::pair<int, int>, NoiseFactors> by_size_;
};

} // namespace kasane

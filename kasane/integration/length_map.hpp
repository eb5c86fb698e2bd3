// Which length makes each pixel of a tile, and where nothing of any length is left that is not saturated.
#pragma once

#include <kasane/integration/tile_samples.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// What makes the pixels of a stack.
struct LengthWeights {
    const std::vector<StackFrame>& frames;
    const StackExpectation& expectation; ///< of the plane that stands for the stack
    /// By pixel, the share that stays of the mean of all that is left there (LengthFade); null: nothing fades.
    const std::vector<float>* stays = nullptr;
};

/// By pixel of a rectangle of samples, as MasterLight::lengths: the length with most weight, of those that have not
/// faded to less than half.
void map_lengths(const TileSamples& samples, const LengthWeights& weights, int width, int height,
                 std::vector<std::uint16_t>& out);

/// Pixels that are burnt in any plane, ascending.
std::vector<std::uint32_t> burnt_pixels(const TileSamples& samples, std::size_t planes);

} // namespace kasane

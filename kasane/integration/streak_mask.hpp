// Trails that were found in a frame, and stars that it is to do without, as samples of the canvas that do not count.
#pragma once

#include <kasane/integration/stack.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// Samples of one plane of a rectangle of the canvas that lie under a trail of the frame: y * width + x, ascending. A
/// pixel's answer does not depend on the rectangle.
void samples_under_streaks(const StackFrame& frame, std::size_t plane, const Region& region,
                           std::vector<std::uint32_t>& out);

/// The same of samples on its covered places, appended; in no order.
void samples_covered(const StackFrame& frame, std::size_t plane, const Region& region, std::vector<std::uint32_t>& out);

} // namespace kasane

// Sorting without branches, so that many stacks of samples are sorted at once.
#pragma once

#include <cstdint>
#include <vector>

namespace kasane {

/// Puts the smaller of two values at `a`, the larger at `b`.
struct Comparator {
    std::uint16_t a, b;
};

/// Batcher's odd-even merge sort for n values as a list of comparators (K. Batcher, AFIPS 32, 1968).
std::vector<Comparator> sorting_network(int n);

} // namespace kasane

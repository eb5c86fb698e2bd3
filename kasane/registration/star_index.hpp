// Nearest stars by position, quickly.
#pragma once

#include <kasane/stars/detection.hpp>

#include <memory>
#include <vector>

namespace kasane {

/// A k-d tree over the positions of a star list, which must outlive it.
class StarIndex {
public:
    explicit StarIndex(const std::vector<Star>& stars, std::size_t first = static_cast<std::size_t>(-1));
    ~StarIndex();
    StarIndex(const StarIndex&) = delete;
    StarIndex& operator=(const StarIndex&) = delete;

    /// Index of the nearest star within `radius`, or -1.
    int nearest(double x, double y, double radius) const;
    /// Indices of the `count` nearest, nearest first (the star at the place itself included).
    std::vector<int> nearest_many(double x, double y, int count) const;

private:
    struct Tree;
    std::unique_ptr<Tree> tree_;
};

} // namespace kasane

#include <kasane/registration/star_index.hpp>

#include <algorithm>
#include <nanoflann.hpp>

namespace kasane {

namespace {
struct Points {
    const std::vector<Star>& stars;
    std::size_t count;
    std::size_t kdtree_get_point_count() const { return count; }
    double kdtree_get_pt(std::size_t i, std::size_t axis) const { return axis == 0 ? stars[i].x : stars[i].y; }
    template <class Box>
    bool kdtree_get_bbox(Box&) const {
        return false;
    }
};
using KdTree =
    nanoflann::KDTreeSingleIndexAdaptor<nanoflann::L2_Simple_Adaptor<double, Points>, Points, 2, std::uint32_t>;
} // namespace

struct StarIndex::Tree {
    explicit Tree(const std::vector<Star>& stars, std::size_t count) : points{stars, count}, tree(2, points) {
        tree.buildIndex();
    }
    Points points;
    KdTree tree;
};

StarIndex::StarIndex(const std::vector<Star>& stars, std::size_t first)
    : tree_(std::make_unique<Tree>(stars, std::min(first, stars.size()))) {}
StarIndex::~StarIndex() = default;

int StarIndex::nearest(double x, double y, double radius) const {
    if (tree_->points.count == 0) return -1;
    const double at[2] = {x, y};
    std::uint32_t index = 0;
    double distance2 = 0;
    if (tree_->tree.knnSearch(at, 1, &index, &distance2) == 0 || distance2 > radius * radius) return -1;
    return static_cast<int>(index);
}

std::vector<int> StarIndex::nearest_many(double x, double y, int count) const {
    if (tree_->points.count == 0) return {};
    const double at[2] = {x, y};
    std::vector<std::uint32_t> index(static_cast<std::size_t>(count));
    std::vector<double> distance2(static_cast<std::size_t>(count));
    const auto n = tree_->tree.knnSearch(at, static_cast<std::size_t>(count), index.data(), distance2.data());
    return {index.begin(), index.begin() + static_cast<std::ptrdiff_t>(n)};
}

} // namespace kasane

// Fewer rounds to where repeating a step changes nothing any more.
#pragma once

#include <deque>
#include <vector>

namespace kasane {

/// Anderson mixing (D. G. Anderson, J. ACM 12, 1965; H. Walker and P. Ni, SIAM J. Numer. Anal. 49, 2011): from the last
/// few points and what the step made of them, the point at which, were the step linear, least would be left to change.
/// What a plain repetition approaches by a percent a round, because few values determine it, is there after a few.
class FixedPoint {
public:
    explicit FixedPoint(std::size_t memory) : memory_(memory) {}
    /// Where to try next, after the step made `made` of `point` (of one size, components in units that compare).
    /// Begins anew where the change has grown to twice what it was.
    std::vector<double> next(const std::vector<double>& point, const std::vector<double>& made);

private:
    struct Pair {
        std::vector<double> change, made; ///< both as differences to the round before
    };
    std::size_t memory_;
    std::deque<Pair> pairs_;
    std::vector<double> change_, made_; ///< of the last round
};

} // namespace kasane

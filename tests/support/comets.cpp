#include "support/comets.hpp"

#include <kasane/sky/variants.hpp>

#include <algorithm>

namespace kasane::test {

const sky::Scenario& comet_scenario() {
    static const sky::Scenario s = sky::demo_variant("comet").make();
    return s;
}

Point comet_on(const std::string& file) {
    const sky::Scenario& s = comet_scenario();
    const auto shot =
        std::find_if(s.shots.begin(), s.shots.end(), [&](const sky::Shot& one) { return one.path == file; });
    const sky::Comet& c = *shot->conditions.comet;
    return sky::pixel_of(shot->conditions.pointing, s.instrument, {c.x, c.y});
}

} // namespace kasane::test

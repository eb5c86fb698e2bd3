// The demo's comet, and where it is.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/sky/scenario.hpp>

#include <string>

namespace kasane::test {

const sky::Scenario& comet_scenario();
/// Its middle on a light, by the truth, pixels.
Point comet_on(const std::string& file);

} // namespace kasane::test

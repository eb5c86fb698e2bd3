// What is wrong, missing or doubtful in a set of frames before work starts, beyond what the pairing itself tells.
#pragma once

#include <kasane/frames/look.hpp>
#include <kasane/pairing/findings.hpp>
#include <kasane/pairing/pairing.hpp>

#include <optional>
#include <vector>

namespace kasane {

/// Looks for: too few frames for rejection, mixed gains, colour filter arrays unknown or differing, sizes that differ
/// or are turned, flats saturated or too dark, bias warmer than the lights, input that is not linear, clocks that jump,
/// lights that look like darks, values that cannot be, roles that are guesses. `looks` are of the exposures, nothing
/// where none was taken. Findings come in a stable order.
std::vector<Finding> check_frames(const std::vector<Exposure>& exposures, const Pairing& pairing,
                                  const std::vector<std::optional<Look>>& looks);

} // namespace kasane

// What the lights of a stack tell against their calibration: a flat that does not fit, a dark that holds more than the
// light, a colour pattern that the pixels contradict. Part of stage 6.
#pragma once

#include <kasane/ledger/records.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/grade.hpp>

#include <vector>

namespace kasane {

/// By what was measured of them; the flats are read once more, and small lights that are binned. What cannot be read is
/// passed over: it is told where it is integrated.
std::vector<StackDoubt> find_doubts(const Session& session, Calibrations& calibrations, const StackPlan& plan,
                                    const std::vector<Light>& lights);

} // namespace kasane

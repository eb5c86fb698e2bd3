// Stage 6: master lights, made or found as they were.
//
// Takes the graded lights; leaves lights/NAME.fits with previews, and a fact a stack.
#pragma once

#include <kasane/ledger/basis.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/reference_groups.hpp>

#include <optional>
#include <string>

namespace kasane {

Basis stack_basis(const Session& session, const Calibrations& calibrations, const StackPlan& plan,
                  const std::string& reference);
/// The report of a master light that is on disk as its basis wants it.
std::optional<StackReport> finished_stack(const Session& session, const StackPlan& plan, const std::string& key);

/// What a finding says of a stack whose master light could not be made.
Finding failure_finding(const StackReport& stack);
/// Makes the master lights of all stacks.
void make_stacks(Session& session);

} // namespace kasane

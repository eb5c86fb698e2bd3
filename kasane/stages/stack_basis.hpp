// What a master light depends on, and whether there is one that was made of just that. Part of stage 6.
#pragma once

#include <kasane/integration/drizzle_options.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/ledger/basis.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/joint_stacks.hpp>

#include <optional>
#include <string>

namespace kasane {

/// Stands for the key of a master that could not be made.
inline constexpr const char* kNotMade = "not made";

/// How one plane of a stack is brought to one level, by the recipe; `colour` 0 red, 1 green, 2 blue, -1 where there is
/// only one.
LevelOptions level_options(const Session& session, const StackPlan& plan, int colour);

/// How the frames of a stack become one, by the recipe.
IntegrateOptions integrate_options(const Session& session, const StackPlan& plan);
/// What they weigh, as the recipe writes it: "worth", "equal", "worth = 1, fwhm = -1".
std::string weights_text(const Session& session);

/// `group` is the stack's own.
Basis stack_basis(const Session& session, const Calibrations& calibrations, const ReferenceGroup& group,
                  const JointStack& stack, const std::string& reference);
/// Of a comet in a stack, relative to the output folder; none where there is none.
std::vector<std::string> files_of(const CometReport& comet);
/// The report of a master light that is on disk as its basis wants it.
std::optional<StackReport> finished_stack(const Session& session, const StackPlan& plan, const std::string& key);

/// What a finding says of a stack whose master light could not be made.
Finding failure_finding(const StackReport& stack);

} // namespace kasane

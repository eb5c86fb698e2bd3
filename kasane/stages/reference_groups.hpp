// Which stacks share one registration reference, and the reference that was chosen before.
#pragma once

#include <kasane/stages/session.hpp>

#include <cstddef>
#include <string>
#include <vector>

namespace kasane {

/// Stacks that share one registration reference: one target through one kind of sensor, on grids of one size.
struct ReferenceGroup {
    std::string name;
    std::vector<std::size_t> stacks;
};
/// The name of the group that a stack belongs to.
std::string reference_group_name(const Session& session, const StackPlan& plan);

std::vector<ReferenceGroup> reference_groups(const Session& session);
/// The reference that earlier runs chose for a group; empty if there is none, or if it is not among the group's
/// exposures any more.
std::string remembered_reference(const Session& session, const ReferenceGroup& group);

} // namespace kasane

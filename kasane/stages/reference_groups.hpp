// Which stacks share one registration reference, the reference that was chosen before, and the one that a person wants.
#pragma once

#include <kasane/stages/session.hpp>

#include <cstddef>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace kasane {

/// Stacks that share one registration reference: one target on one grid. Sensors that show the same sky share it;
/// where that could not be (settle_grids), and where mosaics are binned to half the size, they have their own.
struct ReferenceGroup {
    std::string name;
    std::vector<std::size_t> stacks;
};
/// The name of the group that a stack belongs to.
std::string reference_group_name(const Session& session, const StackPlan& plan);

std::vector<ReferenceGroup> reference_groups(const Session& session);

/// Gives a grid of its own to a sensor that shows another sky than the others of its target, as it was found when they
/// were measured.
void give_own_grid(Session& session, const std::string& target, const std::string& sensor);

/// The reference that earlier runs chose for a group, or that the recipe names alone; empty if there is none, or if it
/// is not among the group's exposures any more. Of an image from outside its identity.
std::string remembered_reference(const Session& session, const ReferenceGroup& group);

/// Lights of a group that [registration] reference names, by their identity.
std::set<std::string> wished_references(const Session& session, const ReferenceGroup& group);
/// What is wrong with the reference that the recipe wants, if anything: it names no light, or an image that is not
/// there.
std::optional<Finding> reference_finding(const Session& session);

/// Whether `wish` names the exposure at `path` (relative to the project): the same path, relative to the project or to
/// here, a name without its folder, or a glob.
bool names_exposure(const std::string& wish, const std::filesystem::path& project, const std::string& path);

/// The name under which a group's reference is remembered: one that a person chose does not touch the automatic one.
std::string reference_choice(const Session& session, const ReferenceGroup& group);

} // namespace kasane

// Which stacks become one master light: each its own, or those of one sky and filter together, whatever took them.
#pragma once

#include <kasane/stages/reference_groups.hpp>

#include <cstddef>
#include <optional>
#include <vector>

namespace kasane {

/// What one master light is made of.
struct JointStack {
    StackPlan plan;                 ///< of one stack itself; of several, their lights, in order
    std::vector<std::size_t> parts; ///< Pairing::stacks, by index; each is judged by itself
};

/// Of a group. With [pairing] rigs = "together" the stacks of one target, filter and kind (mono or colour) are joined.
/// A joint stack is called by what the names of its parts begin with, and "-together".
std::vector<JointStack> joint_stacks(const Session& session, const ReferenceGroup& group);

/// The words, joined by "-", that both begin with.
std::string common_words(const std::string& a, const std::string& b);

/// What the recipe joins, or could not join because it shows another sky; nothing where it joins nothing.
std::vector<Finding> joint_findings(const Session& session);

} // namespace kasane

// The lights of a stack as the integration wants them: calibrated views, places on the canvas, levels, lengths. Part of
// stage 6.
#pragma once

#include <kasane/stages/group_canvas.hpp>
#include <kasane/stages/joint_stacks.hpp>
#include <kasane/stages/lengths.hpp>
#include <kasane/stages/stack_account.hpp>

#include <set>
#include <vector>

namespace kasane {

/// Of a group whose lights are judged and whose canvas is settled. All live on.
class Assembler {
public:
    Assembler(Session& session, const ReferenceGroup& group, Calibrations& calibrations, const GradedLights& graded,
              const GroupCanvas& at);

    /// The lights of all parts, as they were judged, with what they tell of the sky on one scale.
    std::vector<Light> lights_of(const JointStack& stack) const;
    /// Those of them that count, their lengths matched; a file that fails on the way is dropped. Where the best light
    /// of a stack of the pairing is read it is drawn as well. `spare`: memory that what their masters do may take, so
    /// that it is not made again for every part of a frame, bytes.
    Assembly assemble(const StackPlan& plan, std::vector<Light>& lights, std::uint64_t spare = 0) const;
    /// How they become one by the recipe, which has widths in pixels of a light.
    IntegrateOptions options_for(const StackPlan& plan, const Assembly& assembly) const;
    /// A light that cannot be read is left out; where a master cannot, that is not the light's fault: raised.
    void drop_or_raise(Light& light, const FileFailure& failure) const;

private:
    Assembly assemble_unmatched(const StackPlan& plan, std::vector<Light>& lights, std::uint64_t spare) const;
    StackAccount account() const { return {s_, calibrations_, graded_}; }

    Session& s_;
    const ReferenceGroup& group_;
    Calibrations& calibrations_;
    const GradedLights& graded_;
    const GroupCanvas& at_;
    UsableLevels usable_;
    std::set<const Exposure*> shown_; ///< of each stack the light that its page shows as it came
};

/// The same with the memory that an assembly leaves.
Context beside(const Assembly& assembly, const Context& context);

/// Pixels of the light's measured grid in one of the canvas.
double density_of(const Light& light);

/// Pixels of a light along the side of one of what is integrated of it.
int binned_by(const Light& light, const StackFrame& frame);

} // namespace kasane

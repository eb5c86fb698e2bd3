// Stage 5: lights of one group on one grid: measured, registered onto the reference, compared with each other, judged.
//
// Takes the measures of its stacks; leaves GradedLights: transforms, figures and verdicts, and what was chosen for the
// next run.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/grading/drift.hpp>
#include <kasane/grading/judge.hpp>
#include <kasane/grading/worth.hpp>
#include <kasane/normalization/levels.hpp>
#include <kasane/registration/rig.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/reference_groups.hpp>

#include <map>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// One light on its way into a stack.
struct Light {
    const LightPlan* plan = nullptr;
    const Exposure* exposure = nullptr;
    std::shared_ptr<const ExposureMeasures> measures;
    std::string problem;             ///< why there are none
    bool unread = false;             ///< its file could not be read, which may pass
    Outcome registration;            ///< of the plane that stands for the exposure
    std::vector<Transform> to_frame; ///< by plane
    StarScale level;                 ///< to the stack's best light; its stars 0: not measured
    Figures figures;
    Pose pose;
    std::optional<Decision> decision;
    Verdict verdict;
    Contribution contribution;
    int length = 0; ///< of its stack's lengths, 0 the longest (integration/lengths.hpp); each is judged by itself
    int panel = 0;  ///< of the group's panels, as each length judged by itself
    int kin = 0;    ///< of the stack's lights, those of one panel and length

    int main_plane() const { return measures ? kasane::main_plane(static_cast<int>(measures->planes.size())) : 0; }
};

/// A field of a mosaic.
struct Panel {
    std::string name; ///< "3", "2-1"
    Point middle;     ///< pixels of the reference
    int lights = 0;   ///< registered
};

/// The lights of the stacks of one group, on the grid of its reference.
struct GradedLights {
    std::vector<std::vector<Light>> lights;            ///< as ReferenceGroup::stacks
    std::shared_ptr<const ExposureMeasures> reference; ///< of a light of the group, or of an image from outside
    std::string reference_fingerprint, reference_path;
    std::string reference_reason;            ///< why it leads
    std::vector<std::string> runners_up;     ///< what else could have, and what speaks for it
    Canvas canvas;                           ///< the grid of the reference
    std::map<std::string, RigOptics> optics; ///< of the rigs that its lights are of
    std::vector<Panel> panels;               ///< in the order in which one reads; empty: its lights show one field
};

/// The session's limits, parsed.
std::vector<Limit> limits_of(const Session& session);

/// Measures (from the ledger where known), chooses the reference or takes the remembered one if it is still there,
/// registers, compares and judges. Remembers reference, registrations and verdicts in the ledger.
GradedLights grade_group(Session& session, Calibrations& calibrations, const ReferenceGroup& group,
                         const std::string& remembered);

/// Judges again where limits or verdicts by hand have changed and all measures are there: from the ledger alone.
void judge_what_is_known(Session& session, Calibrations& calibrations, const ReferenceGroup& group);

/// Sensor pixels along the side of a pixel of the grid that a light is measured on.
int grid_cell(const Session& session, const Exposure& light);

/// The lights that were kept when a stack was judged last with these measures, limits and verdicts, as one digest;
/// nothing if it was not.
std::optional<std::string> remembered_verdicts(const Session& session, const Calibrations& calibrations,
                                               const StackPlan& plan, const std::string& reference);

} // namespace kasane

// Grading a project: every light measured, compared, judged, and what the verdicts do to the master lights.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/grading/drift.hpp>
#include <kasane/grading/judge.hpp>
#include <kasane/grading/worth.hpp>
#include <kasane/integration/stack.hpp>
#include <kasane/project/run.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/recipe/verdicts.hpp>
#include <kasane/stars/star_shapes.hpp>

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct FrameGrade {
    std::string path, content; ///< relative to the project; fingerprint
    std::string night, filter, start;
    std::optional<double> time; ///< of the start, seconds since 1970
    Figures figures;
    FieldShape shape;
    std::vector<Streak> streaks;
    Verdict verdict;
    std::optional<Decision> decision;
    Contribution contribution;
    std::string panel;                 ///< that it shows; empty: its stack has one field
    int kin = 0;                       ///< which of the stack's kinds (length, panel) it is held against
    std::optional<Transform> to_frame; ///< from the reference's pixels; nothing if not registered
    std::string preview;               ///< file; empty if there is none
    PreviewScale preview_scale;
    std::optional<RejectedCells> rejected; ///< when its master light was made last; nothing if it is not part of one
    std::shared_ptr<const ExposureMeasures> measures; ///< null if it could not be measured
    double scale = 0;                                 ///< brings its light to that of the stack's best; 0: not known
    std::string key; ///< of its measures: other pixels, or another calibration, have another one
    int cell = 1;    ///< pixels of the (turned) exposure along the side of one that it is measured on
};

/// What one limit does, alone and moved.
struct LimitEffect {
    Limit limit;
    int drops = 0;              ///< exposures it would drop, whatever others say
    int alone = 0;              ///< of these, that no other limit drops
    Prediction without;         ///< as if it were not there
    Prediction looser, tighter; ///< its bound moved by a tenth, or its count
};

struct NightGrade {
    std::string night;
    int frames = 0, kept = 0;
    double seconds = 0, kept_seconds = 0, effective_seconds = 0; ///< the latter two of the kept ones
    double fwhm = 0, transparency = 0, background = 0;           ///< medians of the kept ones; 0 unknown
};

struct StackGrade {
    std::string name, target, filter;
    std::string reference; ///< the frame that gives the grid
    double arcsec = 0;     ///< of a pixel; 0 unknown
    int width = 0, height = 0;
    std::vector<FrameGrade> frames; ///< in order of time
    std::vector<LimitEffect> limits;
    std::vector<NightGrade> nights;
    Prediction all, kept;          ///< as if everything usable were kept; by the verdicts
    std::vector<Prediction> curve; ///< the kept ones dropped one by one, the widest stars first
};

/// One night of one sensor, all filters together.
struct NightDrift {
    std::string night, sensor;
    Drift drift;
};

struct GradeReport {
    std::string folder, output;
    std::vector<std::string> limits; ///< as they were applied
    std::vector<StackGrade> stacks;
    std::vector<NightDrift> drifts;
    std::vector<CometMark> comet; ///< as the recipe has them
    std::vector<Finding> findings;
    double time = 0;
    bool clean() const; ///< nothing dropped, nothing found
};

struct GradeOptions {
    RunOptions run;
    std::vector<std::string> limits; ///< instead of the recipe's; empty: the recipe's
    std::vector<std::string> more;   ///< beside them
    Region part;                     ///< instead of the recipe's; empty: the recipe's
    bool previews = false;           ///< makes those that are missing
};

/// Builds the masters that are missing, measures, registers, compares and judges; writes the ledger and the cache of
/// previews, nothing else. Throws as run_project does, and UsageError for limits that make no sense.
GradeReport grade_project(const GradeOptions& options, const Context& context);

/// A project that was graded and whose exposures can be looked at. It lets go of the ledger after grading, so that
/// other work can go on. The options and the context must outlive it. Thread-safe.
class GradedProject {
public:
    /// Throws as grade_project does.
    GradedProject(const GradeOptions& options, const Context& context);
    ~GradedProject();
    GradedProject(const GradedProject&) = delete;
    GradedProject& operator=(const GradedProject&) = delete;

    GradeReport report;

    /// `part` of the frame's grid at full size (at most 2000 x 2000 pixels), or the whole frame in small where it is
    /// empty; calibrated, or as it came from the camera. Throws InputError; UsageError for what is not there.
    FramePicture picture(std::size_t stack, std::size_t frame, const Region& part, bool raw) const;
    /// The whole frame in small, calibrated, as the preview that its measuring left shows it; made again where that is
    /// gone. Throws InputError; UsageError for what is not there.
    FramePicture preview(std::size_t stack, std::size_t frame) const;
    /// An exposure as an integration takes it, from pixels of its reference, its scale as FrameGrade has it, without an
    /// offset; nothing where it was not registered or its scale is not known. Throws InputError where the file, or a
    /// master, cannot be opened; UsageError for what is not there.
    std::optional<StackFrame> stack_frame(std::size_t stack, std::size_t frame) const;
    /// The star nearest to a pixel of the frame's grid, `reach` pixels around, as the calibrated exposure shows it;
    /// nothing where none was found. Throws InputError; UsageError for what is not there.
    std::optional<StarLook> star(std::size_t stack, std::size_t frame, Point at, double reach) const;

private:
    struct Work;
    std::unique_ptr<Work> work_;
};

/// Judges again with other limits and decisions, from the figures alone.
void judge_again(GradeReport& report, const std::vector<std::string>& limits);

/// What a person wants of some exposures: a path (relative to the project or to here) or a glob, and the decision;
/// nothing means back to what the limits say.
struct Wish {
    std::string pattern;
    std::optional<Decision> decision;
};

/// One change for each exposure that the wishes name. A path wins over a glob; where wishes of one kind contradict each
/// other, or one names no exposure, a UsageError is thrown.
std::vector<VerdictChange> changes_for(const GradeReport& report, const std::vector<Wish>& wishes);

} // namespace kasane

// Stage 5, its third part: where a comet is on the lights of a group. Takes the marks of the recipe and the lights that
// were registered; leaves the path of the comet on the reference's grid.
#pragma once

#include <kasane/registration/comet.hpp>
#include <kasane/stages/grade.hpp>

#include <map>
#include <string>
#include <vector>

namespace kasane {

struct CometMarks {
    std::vector<CometMark> sound;  ///< of lights of the project, inside them, at two times at least; none otherwise
    std::vector<Finding> findings; ///< what is wrong with the others
};

/// The recipe's marks, looked at.
CometMarks comet_marks(const Session& session);

/// Whether a comet is marked on two lights of a group, so that its stacks make master lights of it too.
bool has_comet(const Session& session, const ReferenceGroup& group, const std::vector<CometMark>& marks);

/// The middle of an exposure, seconds since 1970; nothing where its time is not known.
std::optional<double> middle_of(const Exposure& exposure);

struct CometSolution {
    CometPath path;
    double rms = 0;            ///< pixels of the reference
    int found = 0, lights = 0; ///< lights that show it, of those that could
    std::string text;
    std::map<std::string, CometPlaceReport> places; ///< by path of the light; x, y on the grid that it is measured on
    std::vector<Point> stars;                       ///< that stand still, on the reference's grid
    double smear = 0;                               ///< the most during a light, pixels
    double epoch = 0;                               ///< the middle of the reference, or of all lights
};

/// Marks first, then each light by its own pixels, twice. Nothing where two marks of this group's lights cannot be
/// placed, or the comet moves too little; why is added to `doubts`. Files that could not be read on the way become
/// `unread`, relative to the project.
std::optional<CometSolution> solve_comet(const Session& session, Calibrations& calibrations, const GradedLights& graded,
                                         const std::vector<CometMark>& marks, std::vector<StackDoubt>& doubts,
                                         std::vector<std::string>& unread);

} // namespace kasane

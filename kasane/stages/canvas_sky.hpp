// Where on the sky a master light lies: what the headers of its lights say, brought onto its canvas. Part of stage 6.
#pragma once

#include <kasane/io/world_coordinates.hpp>
#include <kasane/stages/grade.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// From the grid that a light is measured on to the picture that its file holds: squares of pixels, and turns.
Point file_pixel(const Exposure& exposure, int cell, Point measured);
/// From the picture that a file holds to the pixels of the turned frame.
Point turned_pixel(const Exposure& exposure, Point file);

struct CanvasSky {
    std::optional<WorldCoordinates> world; ///< of the canvas; nothing where no light says it, or all say other things
    std::string text;                      ///< "by the headers of 13 lights, distortion of order 3"
    std::vector<StackDoubt> doubts;        ///< lights whose coordinates contradict the others
};

/// For the lights' own places and the reference's on `canvas`; `beyond`: it shows more than the reference does. Takes
/// the coordinates of the lights that were used and of the reference (64 of them at most), leaves out those that
/// contradict most others, takes the reference's of the rest where that shows all, or fits their mean on the canvas,
/// with the distortion that the transforms and the headers know. A header without distortion, of a rig whose lens is
/// known, is read as the best of ideal pixels.
CanvasSky sky_of_canvas(const Session& session, const GradedLights& graded, const std::vector<const Light*>& used,
                        const Canvas& canvas, bool beyond);

} // namespace kasane

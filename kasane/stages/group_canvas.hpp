// Where the master lights of a group lie: the canvas that the recipe asks for. Part of stage 6.
#pragma once

#include <kasane/geometry/framing.hpp>
#include <kasane/ledger/basis.hpp>
#include <kasane/stages/grade.hpp>

#include <string>

namespace kasane {

/// The share of the size that previews have.
inline constexpr double kPreviewScale = 0.25;

struct GroupCanvas {
    Canvas canvas;        ///< of all master lights of the group
    Canvas level_grid;    ///< of the reference, made larger where the canvas shows more: what levels are told on
    Affine to_level_grid; ///< from the canvas
    std::string text;     ///< what it shows
    bool beyond = false;  ///< it shows more than the reference does
};

/// By the recipe, for the lights that were kept; a quarter of its scale where the caller wants previews. Throws
/// DataError where there is no such canvas, or north is not known.
GroupCanvas canvas_of_group(const Session& session, const GradedLights& graded);

/// All lights that the group keeps, with what lies between them.
void add_lights(Key& key, const Session& session, const Calibrations& calibrations, const ReferenceGroup& group,
                const std::string& reference);

/// What it rests on: the options, and where they follow the lights, all of those that the group keeps.
void add_canvas(Key& key, const Session& session, const Calibrations& calibrations, const ReferenceGroup& group,
                const std::string& reference);

} // namespace kasane

// Whether the master lights of a group are drizzled, and what that does to each. Part of stage 6.
#pragma once

#include <kasane/geometry/canvas.hpp>
#include <kasane/integration/sampling.hpp>
#include <kasane/ledger/records.hpp>
#include <kasane/recipe/recipe.hpp>
#include <kasane/stages/grade.hpp>

#include <optional>
#include <vector>

namespace kasane {

/// What the recipe wants; nothing: lights are interpolated, as for previews always.
std::optional<DrizzleRecipe> drizzle_wanted(const Session& session);

/// The lights of a stack that are kept, as far as sampling goes.
std::vector<SampledFrame> sampled_frames(const std::vector<Light>& lights, const Canvas& canvas);

/// By the recipe, or where it leaves that open by what the stacks of the group (of so many planes at most) gain
/// together and memory has room for. Nothing: they are interpolated.
std::optional<DrizzleOptions> choose_drizzle(const Session& session, const std::vector<std::vector<Light>>& stacks,
                                             const Canvas& canvas, int planes);

/// How the lights sample the sky, and what drizzling them does or would do, beside a picture of their phases; empty
/// where nothing is to be said.
SamplingReport describe_sampling(const Session& session, const std::vector<Light>& lights, const Canvas& canvas,
                                 const std::optional<DrizzleOptions>& drizzled, PhaseCoverage* phases);

} // namespace kasane

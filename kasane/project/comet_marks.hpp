// A comet, pointed at from a program or the command line.
#pragma once

#include <kasane/project/run.hpp>
#include <kasane/recipe/recipe.hpp>

#include <string>
#include <vector>

namespace kasane {

/// Keeps in kasane.toml where a comet is: "FILE X Y" each, the file relative to the project or to here, pixels as
/// CometMark has them. A mark on a file that has one already takes its place; the others stay. "none" alone takes all
/// marks out. Returns all marks as they are then. Nothing is written, and UsageError thrown, where one names no light
/// or several, lies outside it, or is no mark at all.
std::vector<CometMark> keep_comet_marks(const RunOptions& options, const std::vector<std::string>& wishes,
                                        const Context& context);

} // namespace kasane

// Changes to kasane.toml that leave all else in it as a person wrote it.
#pragma once

#include <kasane/recipe/recipe.hpp>

#include <filesystem>
#include <string>
#include <vector>

namespace kasane {

/// The text of a recipe with [grading] limits set; comments and order stay. Where they are the standard ones, or begin
/// with them, "standard" stands for those. Throws UsageError as parse_recipe does.
std::string recipe_with_limits(const std::string& text, const std::vector<std::string>& limits,
                               const std::filesystem::path& file = "kasane.toml");

/// The text of a recipe with [registration] reference set; all else stays. Throws UsageError as parse_recipe does.
std::string recipe_with_reference(const std::string& text, const std::string& reference,
                                  const std::filesystem::path& file = "kasane.toml");

/// The text of a recipe with [comet] marks set, all of them; all else stays. Throws UsageError as parse_recipe does.
std::string recipe_with_comet_marks(const std::string& text, const std::vector<CometMark>& marks,
                                    const std::filesystem::path& file = "kasane.toml");

} // namespace kasane

// What several verbs need.
#pragma once

#include "verbs.hpp"

#include <kasane/project/align.hpp>
#include <kasane/project/grade.hpp>

#include <filesystem>
#include <initializer_list>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <string_view>

namespace kasane::cli {

/// A file that is named for what is written into it, and may be: a page called kasane.toml would be read as a recipe.
/// Throws UsageError.
void require_output(const std::filesystem::path& file, const char* what,
                    std::initializer_list<std::string_view> endings);
void print_json(const nlohmann::json& json);
/// Paths are relative to where one stands, whatever -C names.
std::filesystem::path folder_of(const Arguments& arguments);
/// Characters in a line of the terminal, or what fits most places.
int columns();
RunOptions options_of(const Arguments& arguments);
/// With limits and part as the call has them. Throws UsageError.
GradeOptions grade_options(const Arguments& arguments);
/// Without a shell, so that nothing in an address is ever interpreted; nothing happens where there is no display.
void open_browser(const std::string& address);
/// Throws UsageError where a filter or night is asked for that no light has.
void require_some(const GradeReport& report, const Arguments& arguments);
void require_some(const AlignReport& report, const Arguments& arguments);

/// Verbs with files of their own.
int run_export(const Arguments& arguments, const Context& context);
int watch(const Arguments& arguments, const Context& context);

} // namespace kasane::cli

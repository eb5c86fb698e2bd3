// TOML as the files of a project hold it, read and refused with its place. Not for others than recipe/.
#pragma once

#include <filesystem>
#include <string>

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

namespace kasane::recipe_keys {

/// Throws UsageError with the place: "line 3, column 5: ...".
[[noreturn]] void refuse(const toml::source_region& at, const std::filesystem::path& file, const std::string& what,
                         const std::string& remedy);

/// Throws UsageError with the place for text that is not TOML; `remedy` says how to go on.
toml::table parse_toml(const std::string& text, const std::filesystem::path& file, const std::string& remedy);

} // namespace kasane::recipe_keys

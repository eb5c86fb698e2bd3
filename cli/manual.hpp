// The manual pages and what a shell completes with, made of the same description as the help.
#pragma once

#include <CLI/CLI.hpp>
#include <filesystem>
#include <string>

namespace kasane::cli {

/// A page for man(1), section 1: of the command (`verb` null), or of one of its verbs.
std::string manual_page(const CLI::App& app, const CLI::App* verb);

/// Writes kasane.1 and kasane-VERB.1 into a folder, which is made. Throws OutputError.
void write_manual_pages(const CLI::App& app, const std::filesystem::path& folder);

/// A script that makes a shell complete verbs, options, words and files: "bash", "zsh" or "fish". Throws UsageError.
std::string completion_script(const CLI::App& app, const std::string& shell);

} // namespace kasane::cli

// The words of a call, brought into the order in which they are parsed.
#pragma once

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

namespace kasane::cli {

/// Options that stand before the verb are put behind it, and "help" becomes --help. Throws UsageError for a verb that
/// does not exist, naming those that may have been meant.
std::vector<std::string> ordered_words(const CLI::App& app, int argc, const char* const* argv);

} // namespace kasane::cli

// File systems of a test's own: small ones that fill up, and places that nobody may write to.
#pragma once

#include "support/support.hpp"

#include <optional>

namespace kasane::test {

/// Runs lines of shell, `{kasane}` standing for the command's path, where file systems can be mounted that are gone
/// afterwards; nothing where this machine allows no such thing.
std::optional<Outcome> in_own_mounts(const std::string& script);

} // namespace kasane::test

// Where the samples of each light were rejected when its master light was made last, as the ledger keeps it. Part of
// stage 6.
#pragma once

#include <kasane/integration/stack.hpp>
#include <kasane/stages/session.hpp>

#include <optional>
#include <vector>

namespace kasane {

/// Squares in which more was rejected than chance does, in sixteen steps; a few kilobytes a light. Nothing for lights
/// that were not used: what was known of them is forgotten.
void remember_rejected(Session& session, const Exposure& light, const RejectedCells* cells);

/// Nothing if its master light has not been made.
std::optional<RejectedCells> remembered_rejected(const Session& session, const Exposure& light);

} // namespace kasane

// Stage 2: what goes with what, under the names that were given before.
//
// Takes the scan; leaves Session::pairing and what is known of the cameras.
#pragma once

#include <kasane/stages/scan.hpp>
#include <kasane/stages/session.hpp>

namespace kasane {

/// Takes over what was scanned, pairs it under the names that were given before, and recalls the cameras. Throws
/// UsageError where the recipe measures a part that lies outside the frames.
void pair_session(Session& session, const Scan& scan);
/// The same with what has become known since: panels that do not belong together. Masters stay as they are.
void pair_again(Session& session);
/// A target, squeezed, belongs to those of the same word here rather than to all whose names say so; no word: to all.
void set_panel_apart(Session& session, const std::string& target, const std::string& part);
std::map<std::string, std::string> panels_apart(const Session& session);
/// Remembers the names of stacks and masters for the next time.
void remember_names(Session& session);

} // namespace kasane

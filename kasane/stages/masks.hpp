// What of a light is no sky: trees, roofs, a landscape, as [[files]] of the recipe has it.
#pragma once

#include <kasane/stages/session.hpp>

#include <memory>
#include <string>

namespace kasane {

/// Reads what there is to know of all masks, so that keys can be made of it. Throws UsageError for a mask that cannot
/// be read or has another size than a light that it is for.
void settle_masks(Session& session);

/// Digest of what hides parts of an exposure; empty: nothing.
std::string mask_key(const Session& session, const Exposure& exposure);

/// 1 where an exposure shows no sky, in pixels of the frame as it is read (turned); null: all of it is sky. Not for
/// several threads at once. Throws InputError.
std::shared_ptr<const Mask> mask_of(const Session& session, const Exposure& exposure);

} // namespace kasane

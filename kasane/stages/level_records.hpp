// What is remembered of levels, as bytes of the ledger, a few kilobytes a frame. Not for others than stages/.
#pragma once

#include <kasane/normalization/levels.hpp>

#include <optional>
#include <string>

namespace kasane {

class Writer;

/// How a frame lies on the canvas, with its lenses.
void put(Writer& bytes, const Transform& to_frame);

std::string encode(const StackLevels& levels);
/// Nothing where the bytes are of another version or damaged.
std::optional<StackLevels> decode_levels(const std::string& bytes);

} // namespace kasane

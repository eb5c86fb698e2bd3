// What is remembered of registrations, as bytes of the ledger. Not for others than stages/.
#pragma once

#include <kasane/registration/rig.hpp>

#include <cstdint>
#include <map>
#include <optional>
#include <string>

namespace kasane {

class Writer;

using Rigs = std::map<std::string, RigOptics>;

/// The optics of a rig's planes as they are remembered, for one reference and one wish of the recipe.
struct Solved {
    std::string basis;
    std::uint32_t lights = 0; ///< of the rig, when they were solved
    Rigs rigs;
};

/// A lens, or that there is none.
void put(Writer& bytes, const std::shared_ptr<const Lens>& lens);

std::string encode(const Outcome& outcome);
std::string encode(const Solved& solved);
/// Nothing if the bytes are of another version or damaged.
std::optional<Outcome> decode_outcome(const std::string& bytes);
std::optional<Solved> decode_solved(const std::string& bytes);

} // namespace kasane

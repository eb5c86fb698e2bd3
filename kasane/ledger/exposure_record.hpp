// What the ledger keeps of a file: what its header said, and what a look at its pixels showed, as bytes.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/frames/look.hpp>

#include <optional>
#include <string>

namespace kasane {

std::string encode(const Exposure& e);
/// Nothing if the bytes are of another version or damaged. Path, fingerprint and identity are not among them.
std::optional<Exposure> decode_exposure(const std::string& bytes);

/// `whole`: the look went over all pixels, not only some windows.
std::string encode(const Look& look, bool whole);
/// Nothing if the bytes are of another version or damaged, or less than what is wanted.
std::optional<Look> decode_look(const std::string& bytes, bool whole);

} // namespace kasane

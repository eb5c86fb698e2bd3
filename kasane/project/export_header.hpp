// What all exports have in common: headers of originals carried over, and where files may go.
#pragma once

#include <kasane/io/header.hpp>

#include <filesystem>

namespace kasane {

/// The cards of a header that are true of a copy of its pixels as 32-bit floats, rows from above: not how the original
/// was stored, nor, unless `place`, where its pixels lie on the sky or which colours they have.
Header exported_header(const Header& original, bool place);

/// Throws UsageError where `to` is the project's folder or lies in it: its files would be taken for exposures.
void require_outside(const std::filesystem::path& project, const std::filesystem::path& to);

/// Where an exposure of the project goes below `to`: as deep as in the project. What leads out of it loses its "..".
std::filesystem::path exported_place(const std::filesystem::path& to, const std::filesystem::path& exposure);

} // namespace kasane

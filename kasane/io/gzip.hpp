// Whole files and blocks under gzip (RFC 1952), unpacked with their check sums and lengths verified, through zlib.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <span>
#include <string>
#include <vector>

namespace kasane {

/// All bytes of a gzip file, of however many members. Throws InputError if it ends too soon, its CRC-32 or length do
/// not fit, something else follows it, or it unpacks to more than `most` bytes.
std::vector<std::byte> gunzip_file(const std::filesystem::path& file, std::uint64_t most);

/// What is wrong with one gzip member in memory, in a few words; empty: it ends properly and unpacks to at most `most`
/// bytes.
std::string gzip_problem(std::span<const std::byte> packed, std::uint64_t most);

} // namespace kasane

// Digests (XXH3, 128 bit) for recognising content; not for security.
#pragma once

#include <cstddef>
#include <filesystem>
#include <memory>
#include <span>
#include <string>
#include <string_view>

namespace kasane {

/// Digest of a byte string: 32 hexadecimal digits.
std::string digest(std::string_view bytes);

/// Feeds several pieces into one digest; each piece is separated from the next.
class Digester {
public:
    Digester& add(std::string_view piece);
    Digester& add(double value);
    std::string result() const;
    /// Begins anew; keeps its memory.
    void clear() { pieces_.clear(); }

private:
    std::string pieces_;
};

/// Recognises a file by its size, its first 64 KiB and its last 4 KiB: enough to tell any two exposures apart (their
/// noise differs everywhere) at the cost of reading the header. Throws InputError.
std::string fingerprint(const std::filesystem::path& file);

/// Digest of bytes that come piece by piece: that of all of them as one string.
class StreamDigest {
public:
    StreamDigest();
    ~StreamDigest();
    StreamDigest(const StreamDigest&) = delete;
    StreamDigest& operator=(const StreamDigest&) = delete;
    void add(std::span<const std::byte> piece);
    std::string result() const;

private:
    struct State;
    std::unique_ptr<State> state_;
};

} // namespace kasane

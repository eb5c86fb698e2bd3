// The check sums of FITS: ones' complement sums of big-endian 32-bit words (FITS Standard 4.0, appendix J). Internal to
// io/.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <span>

namespace kasane {

/// Sums of bytes by their place in a word of four: without turning any word round.
using ByteSums = std::array<std::uint64_t, 4>;
/// Adds as many words as make whole vectors, and tells how many bytes these were.
std::size_t sum_bytes(std::span<const std::byte> bytes, ByteSums& sums);

/// A sum of bytes one after the other, of fewer than 2^32 words.
class FitsSum {
public:
    /// As they lie in the file; a whole number of words.
    void add(std::span<const std::byte> bytes);
    void add_word(std::uint32_t word) { sum_ += word; }
    std::uint32_t result() const {
        std::uint64_t folded = sum_;
        while (folded >> 32)
            folded = (folded & 0xffffffffu) + (folded >> 32);
        return static_cast<std::uint32_t>(folded);
    }

private:
    std::uint64_t sum_ = 0;
};

class InputFile;

/// The sum of the bytes of a file from `from` up to `end`. Throws InputError.
FitsSum fits_sum(const InputFile& file, std::uint64_t from, std::uint64_t end);

} // namespace kasane

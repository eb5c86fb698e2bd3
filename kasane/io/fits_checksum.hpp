// The check sums of FITS: ones' complement sums of big-endian 32-bit words (FITS Standard 4.0, appendix J). Internal to
// io/.
#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <span>

namespace kasane {

/// A sum of values or bytes one after the other, of fewer than 2^32 words.
class FitsSum {
public:
    void add(float value) { sum_ += std::bit_cast<std::uint32_t>(value); }
    /// As two's complement beside BZERO; two of them are a word.
    void add(std::uint16_t value) {
        sum_ += static_cast<std::uint64_t>(value ^ 0x8000u) << (half_ ? 0 : 16);
        half_ = !half_;
    }
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
    bool half_ = false;
};

class InputFile;

/// The sum of the bytes of a file from `from` up to `end`. Throws InputError.
FitsSum fits_sum(const InputFile& file, std::uint64_t from, std::uint64_t end);

} // namespace kasane

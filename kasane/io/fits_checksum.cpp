#include <kasane/io/fits_checksum.hpp>

#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <array>
#include <cstring>
#include <vector>

namespace kasane {

void FitsSum::add(std::span<const std::byte> bytes) {
    // Bytes by their place in a word, so that none has to be turned round: of pairs of words, each second byte on its
    // own, as many as sixteen bits hold the sums of.
    constexpr std::size_t kPairs = 16, kOften = 256; // pairs of words side by side
    constexpr std::uint64_t kEven = 0x00ff00ff00ff00ffu;
    std::array<std::uint64_t, 4> column{}; // sums of the bytes at each place
    std::size_t at = 0;
    while (at + 8 * kPairs <= bytes.size()) {
        std::array<std::uint64_t, kPairs> even{}, odd{};
        for (std::size_t k = 0; k < kOften && at + 8 * kPairs <= bytes.size(); ++k, at += 8 * kPairs)
            for (std::size_t i = 0; i < kPairs; ++i) {
                std::uint64_t pair = 0;
                std::memcpy(&pair, bytes.data() + at + 8 * i, 8);
                even[i] += pair & kEven;
                odd[i] += (pair >> 8) & kEven;
            }
        for (std::size_t i = 0; i < kPairs; ++i)
            for (int shift = 0; shift < 64; shift += 32) {
                column[0] += even[i] >> shift & 0xffff;
                column[1] += odd[i] >> shift & 0xffff;
                column[2] += even[i] >> (shift + 16) & 0xffff;
                column[3] += odd[i] >> (shift + 16) & 0xffff;
            }
    }
    std::uint64_t sum = 0;
    for (std::size_t k = 0; k < column.size(); ++k)
        sum += column[k] << (24 - 8 * k);
    for (; at + 4 <= bytes.size(); at += 4) {
        std::uint32_t word = 0;
        std::memcpy(&word, bytes.data() + at, 4);
        sum += __builtin_bswap32(word);
    }
    sum_ += sum;
}

FitsSum fits_sum(const InputFile& file, std::uint64_t from, std::uint64_t end) {
    constexpr std::uint64_t kBlock = 256 << 10; // what the processor keeps at hand
    FitsSum sum;
    std::vector<std::byte> block(static_cast<std::size_t>(std::min(kBlock, end > from ? end - from : 0)));
    for (std::uint64_t at = from; at < end; at += kBlock) {
        const auto piece = std::span(block).first(static_cast<std::size_t>(std::min(kBlock, end - at)));
        file.read(at, piece);
        sum.add(piece);
    }
    return sum;
}

} // namespace kasane

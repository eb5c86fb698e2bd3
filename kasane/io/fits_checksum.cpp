#include <kasane/io/fits_checksum.hpp>

#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <cstring>
#include <vector>

namespace kasane {

void FitsSum::add(std::span<const std::byte> bytes) {
    ByteSums column{};
    std::size_t at = sum_bytes(bytes, column);
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

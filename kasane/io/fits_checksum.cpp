#include <kasane/io/fits_checksum.hpp>

#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <vector>

namespace kasane {

FitsSum fits_sum(const InputFile& file, std::uint64_t from, std::uint64_t end) {
    constexpr std::uint64_t kBlock = 1 << 20;
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

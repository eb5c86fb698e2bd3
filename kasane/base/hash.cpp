#include <kasane/base/hash.hpp>

#include <kasane/base/error.hpp>

#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <vector>
#include <xxhash.h>

namespace kasane {

std::string digest(std::string_view bytes) {
    const XXH128_hash_t h = XXH3_128bits(bytes.data(), bytes.size());
    return fmt::format("{:016x}{:016x}", h.high64, h.low64);
}

Digester& Digester::add(std::string_view piece) {
    pieces_ += fmt::format("{}:", piece.size());
    pieces_ += piece;
    return *this;
}

Digester& Digester::add(double value) {
    return add(fmt::format("{:a}", value));
}

std::string Digester::result() const {
    return digest(pieces_);
}

std::string fingerprint(const std::filesystem::path& file) {
    constexpr std::int64_t kEnd = 64 << 10, kBlock = 4 << 10, kBlocks = 64;
    std::ifstream in(file, std::ios::binary | std::ios::ate);
    if (!in) throw InputError("cannot be opened", file, "Check that the file still exists and may be read");
    const auto size = static_cast<std::int64_t>(in.tellg());
    std::string sample = fmt::format("{}:", size);
    std::vector<char> buffer;
    const auto take = [&](std::int64_t at, std::int64_t length) {
        length = std::min(length, size - at);
        if (at < 0 || length <= 0) return;
        buffer.resize(static_cast<std::size_t>(length));
        in.seekg(at);
        in.read(buffer.data(), length);
        if (!in) throw InputError("cannot be read to its end", file, "Copy it again from the camera or the disk");
        sample.append(buffer.data(), buffer.size());
    };
    if (size <= 2 * kEnd + kBlocks * kBlock) {
        take(0, size);
    } else {
        take(0, kEnd);
        const std::int64_t step = (size - 2 * kEnd) / kBlocks;
        for (std::int64_t i = 0; i < kBlocks; ++i)
            take(kEnd + i * step, kBlock);
        take(size - kEnd, kEnd);
    }
    return digest(sample);
}

} // namespace kasane

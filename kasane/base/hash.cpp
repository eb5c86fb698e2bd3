#include <kasane/base/hash.hpp>

#include <kasane/base/error.hpp>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <fmt/format.h>
#include <fstream>
#include <limits>
#include <memory>
#include <new>
#include <xxhash.h>
#if defined(__x86_64__) && __has_include(<xxh_x86dispatch.h>)
#include <xxh_x86dispatch.h> // the same digests, with whatever vectors the processor has
#endif

namespace kasane {

namespace {

/// As 32 hexadecimal digits: by hand, since ten thousand are wanted at the start of a scan.
std::string hexadecimal(const XXH128_hash_t& h) {
    std::string out(32, '0');
    for (int half = 0; half < 2; ++half) {
        std::uint64_t v = half ? h.low64 : h.high64;
        for (int i = 15; i >= 0; --i, v >>= 4)
            out[static_cast<std::size_t>(16 * half + i)] = "0123456789abcdef"[v & 15];
    }
    return out;
}

} // namespace

std::string digest(std::string_view bytes) {
    return hexadecimal(XXH3_128bits(bytes.data(), bytes.size()));
}

Digester& Digester::add(std::string_view piece) {
    char size[20];
    const auto end = std::to_chars(size, size + sizeof size, piece.size()).ptr;
    pieces_.append(size, end);
    pieces_ += ':';
    pieces_ += piece;
    return *this;
}

Digester& Digester::add(double value) {
    if (std::isnan(value)) value = std::numeric_limits<double>::quiet_NaN(); // there are many
    char bytes[sizeof value];
    std::memcpy(bytes, &value, sizeof value);
    return add(std::string_view(bytes, sizeof bytes));
}

std::string Digester::result() const {
    return digest(pieces_);
}

namespace {

class File {
public:
    explicit File(const std::filesystem::path& file) : path_(file), in_(file, std::ios::binary) {
        if (!in_) throw InputError("cannot be opened", file, "Check that the file still exists and may be read");
    }
    void read(std::string& into, std::int64_t at, std::int64_t length) {
        const std::size_t before = into.size();
        into.resize(before + static_cast<std::size_t>(length));
        in_.seekg(at);
        in_.read(into.data() + before, length);
        if (!in_) throw InputError("cannot be read to its end", path_, "Copy it again from the camera or the disk");
    }

private:
    std::filesystem::path path_;
    std::ifstream in_;
};

std::int64_t size_of(const std::filesystem::path& file) {
    std::error_code failed;
    const auto size = std::filesystem::file_size(file, failed);
    if (failed) throw InputError("cannot be read: " + failed.message(), file, "Check that the file still exists");
    return static_cast<std::int64_t>(size);
}

} // namespace

std::string fingerprint(const std::filesystem::path& file) {
    constexpr std::int64_t kHead = 64 << 10, kTail = 4 << 10;
    const std::int64_t size = size_of(file);
    File in(file);
    std::string sample = fmt::format("{}:", size);
    in.read(sample, 0, std::min(size, kHead));
    if (size > kHead) in.read(sample, std::max(kHead, size - kTail), std::min(kTail, size - kHead));
    return digest(sample);
}

struct StreamDigest::State {
    std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> of{XXH3_createState(), &XXH3_freeState};
};

StreamDigest::StreamDigest() : state_(std::make_unique<State>()) {
    if (!state_->of) throw std::bad_alloc();
    XXH3_128bits_reset(state_->of.get());
}

StreamDigest::~StreamDigest() = default;

void StreamDigest::add(std::span<const std::byte> piece) {
    XXH3_128bits_update(state_->of.get(), piece.data(), piece.size());
}

std::string StreamDigest::result() const {
    return hexadecimal(XXH3_128bits_digest(state_->of.get()));
}

} // namespace kasane

#include <kasane/io/gzip.hpp>

#include <kasane/base/error.hpp>
#include <kasane/io/input_file.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <zlib.h>

namespace kasane {

namespace {

constexpr std::size_t kBlock = 1 << 18; // bytes

class Inflater {
public:
    Inflater() {
        if (inflateInit2(&stream_, MAX_WBITS + 16) != Z_OK) throw std::bad_alloc(); // + 16: gzip, sums verified
    }
    ~Inflater() { inflateEnd(&stream_); }
    Inflater(const Inflater&) = delete;
    Inflater& operator=(const Inflater&) = delete;

    enum class State { more, ended, damaged };

    /// Unpacks as much of `in` as fits into `out`; both are moved on.
    State step(std::span<const std::byte>& in, std::span<std::byte>& out) {
        stream_.next_in = const_cast<Bytef*>(reinterpret_cast<const Bytef*>(in.data()));
        stream_.avail_in = static_cast<uInt>(std::min<std::size_t>(in.size(), kBlock));
        stream_.next_out = reinterpret_cast<Bytef*>(out.data());
        stream_.avail_out = static_cast<uInt>(std::min<std::size_t>(out.size(), 1u << 30));
        const uInt had_in = stream_.avail_in, had_out = stream_.avail_out;
        const int result = inflate(&stream_, Z_NO_FLUSH);
        in = in.subspan(had_in - stream_.avail_in);
        out = out.subspan(had_out - stream_.avail_out);
        if (result == Z_STREAM_END) return State::ended;
        return result == Z_OK || result == Z_BUF_ERROR ? State::more : State::damaged;
    }
    void again() { inflateReset(&stream_); }

private:
    z_stream stream_{};
};

} // namespace

std::vector<std::byte> gunzip_file(const std::filesystem::path& file, std::uint64_t most) {
    const char* kRemedy = "Copy it again from where it was made, or remove it";
    const InputFile input(file);
    Inflater inflater;
    std::vector<std::byte> out, block(kBlock);
    std::size_t filled = 0;
    bool inside = true;
    for (std::uint64_t at = 0; at < input.size();) {
        const std::size_t n = static_cast<std::size_t>(std::min<std::uint64_t>(kBlock, input.size() - at));
        input.read(at, {block.data(), n});
        at += n;
        std::span<const std::byte> in(block.data(), n);
        for (bool more = true; more;) {
            if (!inside) { // zeros may follow, as tapes leave them, or another member
                while (!in.empty() && in.front() == std::byte{0})
                    in = in.subspan(1);
                if (in.empty()) break;
                if (in.front() != std::byte{0x1f})
                    throw InputError("is damaged: after its compressed data follows something else", file, kRemedy);
                inflater.again();
                inside = true;
            }
            if (filled == out.size()) {
                if (filled >= most)
                    throw InputError(
                        fmt::format("would unpack to more than {:.1f} GB", 1e-9 * static_cast<double>(most)), file,
                        kRemedy);
                out.resize(static_cast<std::size_t>(
                    std::min<std::uint64_t>(most, std::max<std::uint64_t>(4 * input.size(), 2 * filled))));
            }
            std::span<std::byte> to(out.data() + filled, out.size() - filled);
            const std::size_t room = to.size();
            const auto state = inflater.step(in, to);
            filled += room - to.size();
            if (state == Inflater::State::damaged)
                throw InputError("is damaged: its compressed data or their check sum are wrong", file, kRemedy);
            if (state == Inflater::State::ended) inside = false;
            more = !in.empty() || (inside && to.empty()); // what was taken in may not have come out yet
        }
    }
    if (inside) throw InputError("is damaged: its compressed data end too soon", file, kRemedy);
    out.resize(filled);
    return out;
}

std::string gzip_problem(std::span<const std::byte> in, std::uint64_t most) {
    Inflater inflater;
    std::vector<std::byte> scratch(static_cast<std::size_t>(std::min<std::uint64_t>(most + 1, kBlock)));
    std::uint64_t made = 0;
    for (;;) {
        std::span<std::byte> to(scratch);
        const std::size_t before = in.size();
        const auto state = inflater.step(in, to);
        made += scratch.size() - to.size();
        if (made > most) return "it unpacks to more than its size allows";
        if (state == Inflater::State::ended) return {};
        if (state == Inflater::State::damaged) return "it cannot be unpacked";
        if (in.size() == before && to.size() == scratch.size()) return "it ends too soon";
    }
}

} // namespace kasane

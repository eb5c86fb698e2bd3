#include <kasane/io/pixel_cache.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>

#include <algorithm>
#include <vector>

namespace fs = std::filesystem;

namespace kasane {

PixelCache::PixelCache(fs::path folder, std::uint64_t limit) : folder_(std::move(folder)), limit_(limit) {}

std::shared_ptr<std::mutex> PixelCache::lock_of(const std::string& key) {
    const std::lock_guard guard(mutex_);
    auto& weak = locks_[key];
    auto lock = weak.lock();
    if (!lock) weak = lock = std::make_shared<std::mutex>();
    return lock;
}

std::unique_ptr<FrameReader> PixelCache::get(const std::string& key, const std::function<Decoded()>& decode,
                                             Decoded& kept) {
    const auto lock = lock_of(key);
    const std::lock_guard one_at_a_time(*lock);
    const fs::path file = folder_ / (key + ".fits");
    std::error_code failed;
    if (fs::exists(file, failed)) {
        try {
            auto reader = open_fits(file);
            fs::last_write_time(file, fs::file_time_type::clock::now(), failed); // used just now
            return reader;
        } catch (const InputError&) { // damaged: decode again
        }
    }
    kept = decode();
    constexpr std::uint64_t kHeader = 4 * 2880;
    const std::uint64_t bytes = kHeader + kept.counts.pixels().size() * 2 + kept.floats.pixels().size() * 4;
    if (bytes > limit_) return nullptr;
    try {
        fs::create_directories(folder_);
        make_room(bytes, key);
        if (kept.floats.empty())
            write_fits_u16(file, kept.counts.plane(), {}, Over::anything);
        else
            write_fits(file, {{kept.floats.plane(), {}}}, Over::anything);
        auto reader = open_fits(file);
        kept = {};
        return reader;
    } catch (const Error&) {
        return nullptr;
    } catch (const fs::filesystem_error&) {
        return nullptr;
    }
}

std::uint64_t PixelCache::size() const {
    std::uint64_t sum = 0;
    std::error_code failed;
    for (auto it = fs::directory_iterator(folder_, failed); !failed && it != fs::directory_iterator();
         it.increment(failed)) {
        std::error_code gone;
        const auto bytes = fs::file_size(it->path(), gone);
        if (!gone) sum += bytes;
    }
    return sum;
}

void PixelCache::make_room(std::uint64_t bytes, const std::string& but) {
    const std::lock_guard guard(mutex_);
    struct Entry {
        fs::file_time_type used;
        fs::path file;
        std::uint64_t bytes;
    };
    std::vector<Entry> entries;
    std::uint64_t sum = bytes;
    std::error_code failed;
    for (auto it = fs::directory_iterator(folder_, failed); !failed && it != fs::directory_iterator();
         it.increment(failed)) {
        std::error_code gone;
        const Entry e{fs::last_write_time(it->path(), gone), it->path(), fs::file_size(it->path(), gone)};
        if (gone || it->path().extension() != ".fits") continue;
        sum += e.bytes;
        if (it->path().stem() != but) entries.push_back(e);
    }
    std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) { return a.used < b.used; });
    for (const Entry& e : entries) {
        if (sum <= limit_) break;
        std::error_code gone;
        fs::remove(e.file, gone);
        sum -= e.bytes;
    }
}

} // namespace kasane

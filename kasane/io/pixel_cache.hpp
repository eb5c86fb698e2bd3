// Decoded pixels of whole-file formats, kept on disk within a limit, so that no file is decoded twice.
#pragma once

#include <kasane/io/reader.hpp>

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>

namespace kasane {

/// All planes of a picture, one below the other: 16-bit where the file holds no more, else floats. One of them is
/// empty.
struct Decoded {
    Raster<std::uint16_t> counts;
    Image floats;
};

/// A folder of plain FITS files, named by the fingerprints of the files they were decoded from. Thread-safe; one file
/// is never decoded twice at the same time. The least recently used go first when `limit` is passed; an entry in use
/// stays readable until its readers are closed. Everything in it can be deleted at any time.
class PixelCache {
public:
    /// @param limit  bytes on disk
    PixelCache(std::filesystem::path folder, std::uint64_t limit);

    /// The pixels for `key`, one plane below the other; `decode` is called if they are not there. Returns nothing where
    /// the folder cannot take them (disk full, read-only): the caller then keeps them in memory.
    std::unique_ptr<FrameReader> get(const std::string& key, const std::function<Decoded()>& decode, Decoded& kept);

    /// Bytes on disk now.
    std::uint64_t size() const;
    std::uint64_t limit() const { return limit_; }

private:
    void make_room(std::uint64_t bytes, const std::string& but);
    std::shared_ptr<std::mutex> lock_of(const std::string& key);

    std::filesystem::path folder_;
    std::uint64_t limit_;
    mutable std::mutex mutex_;
    std::map<std::string, std::weak_ptr<std::mutex>> locks_;
};

} // namespace kasane

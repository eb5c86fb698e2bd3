// A file mapped into memory, read-only.
#pragma once

#include <cstddef>
#include <cstdint>
#include <filesystem>

namespace kasane {

/// Maps a whole file for reading. Pages come and go with the kernel's cache; `release` drops those mapped so far from
/// the resident size.
class MappedFile {
public:
    /// Throws InputError if the file cannot be opened or mapped, or is empty.
    explicit MappedFile(std::filesystem::path file);
    ~MappedFile();
    MappedFile(const MappedFile&) = delete;
    MappedFile& operator=(const MappedFile&) = delete;

    const std::byte* data() const { return data_; }
    std::size_t size() const { return size_; }
    void release() const;
    /// Throws InputError if the file on disk is now shorter than what was mapped (touching the rest would be fatal).
    void check_still_whole() const;

private:
    std::filesystem::path file_;
    int descriptor_ = -1;
    const std::byte* data_ = nullptr;
    std::size_t size_ = 0;
};

} // namespace kasane

// A file on its way to the disk while more of it is being made, so that the wait for it at the end is short.
#pragma once

#include <cstdint>
#include <filesystem>

namespace kasane {

/// Of one file that is being written, by whatever means. What goes wrong is told by the sync at the end, not here.
class EarlyWriting {
public:
    explicit EarlyWriting(const std::filesystem::path& file);
    ~EarlyWriting();
    EarlyWriting(const EarlyWriting&) = delete;
    EarlyWriting& operator=(const EarlyWriting&) = delete;
    /// So many bytes more have been written: now and then the system is asked to begin with what it holds.
    void written(std::uint64_t bytes);

private:
    int file_ = -1;
    std::uint64_t waiting_ = 0;
};

} // namespace kasane

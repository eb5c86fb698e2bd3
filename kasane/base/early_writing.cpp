#include <kasane/base/early_writing.hpp>

#include <fcntl.h>
#include <unistd.h>

namespace kasane {

EarlyWriting::EarlyWriting(const std::filesystem::path& file) : file_(::open(file.c_str(), O_RDONLY | O_CLOEXEC)) {}

EarlyWriting::~EarlyWriting() {
    if (file_ >= 0) ::close(file_);
}

void EarlyWriting::written(std::uint64_t bytes) {
    constexpr std::uint64_t kTogether = 8 << 20;
    waiting_ += bytes;
    if (file_ < 0 || waiting_ < kTogether) return;
    waiting_ = 0;
#ifdef SYNC_FILE_RANGE_WRITE
    ::sync_file_range(file_, 0, 0, SYNC_FILE_RANGE_WRITE); // to the end
#endif
}

} // namespace kasane

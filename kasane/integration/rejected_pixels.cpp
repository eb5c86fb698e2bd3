#include <kasane/integration/rejected_pixels.hpp>

#include <atomic>
#include <bit>

namespace kasane {

namespace {

constexpr int kBits = 32;

std::size_t words_across(const Canvas& canvas) {
    return static_cast<std::size_t>((canvas.width + kBits - 1) / kBits);
}

std::size_t words_of(const Canvas& canvas, std::size_t frames, int planes) {
    return words_across(canvas) * static_cast<std::size_t>(canvas.height) * static_cast<std::size_t>(planes) * frames;
}

} // namespace

RejectedPixels::RejectedPixels(const Canvas& canvas, std::size_t frames, int planes, std::shared_ptr<Scratch> scratch)
    : width_(canvas.width), height_(canvas.height), planes_(planes), line_(words_across(canvas)),
      words_(words_of(canvas, frames, planes), 0, std::move(scratch)) {}

std::uint64_t RejectedPixels::bytes(const Canvas& canvas, std::size_t frames, int planes) {
    return words_of(canvas, frames, planes) * sizeof(std::uint32_t);
}

std::size_t RejectedPixels::word_of(std::size_t frame, int plane, int x, int y) const {
    const std::size_t image = frame * static_cast<std::size_t>(planes_) + static_cast<std::size_t>(plane);
    return (image * static_cast<std::size_t>(height_) + static_cast<std::size_t>(y)) * line_ +
           static_cast<std::size_t>(x / kBits);
}

void RejectedPixels::add(std::size_t frame, int plane, int x, int y) {
    std::atomic_ref<std::uint32_t>(words_[word_of(frame, plane, x, y)])
        .fetch_or(std::uint32_t{1} << (x % kBits), std::memory_order_relaxed);
}

bool RejectedPixels::at(std::size_t frame, int plane, int x, int y) const {
    if (x < 0 || y < 0 || x >= width_ || y >= height_) return false;
    return (words_[word_of(frame, plane, x, y)] >> (x % kBits) & 1u) != 0;
}

std::uint64_t RejectedPixels::count(std::size_t frame) const {
    const std::size_t each = static_cast<std::size_t>(planes_) * static_cast<std::size_t>(height_) * line_;
    std::uint64_t sum = 0;
    for (std::size_t i = frame * each; i < (frame + 1) * each; ++i)
        sum += static_cast<std::uint64_t>(std::popcount(words_[i]));
    return sum;
}

} // namespace kasane

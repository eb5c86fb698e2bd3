#include "progress.hpp"

#include <kasane/report/tables.hpp>

#include <cmath>
#include <cstdio>
#include <fmt/format.h>
#include <unistd.h>

namespace kasane::cli {

TerminalProgress::TerminalProgress(std::shared_ptr<spdlog::logger> log, bool quiet)
    : log_(std::move(log)), quiet_(quiet), terminal_(isatty(STDERR_FILENO) != 0) {}

TerminalProgress::~TerminalProgress() {
    clear();
}

double TerminalProgress::now() const {
    return std::chrono::duration<double>(Clock::now() - born_).count();
}

void TerminalProgress::expect(const std::vector<StageCost>& stages) {
    const std::lock_guard lock(mutex_);
    whole_.expect(stages);
}

void TerminalProgress::begin(const std::string& stage, std::int64_t total) {
    const std::lock_guard lock(mutex_);
    stage_ = stage;
    total_ = total;
    done_ = 0;
    started_ = Clock::now();
    whole_.begin(stage, total, now());
    drawn_ = {};
    if (total_ > 0) draw();
}

void TerminalProgress::advance(std::int64_t units) {
    const std::lock_guard lock(mutex_);
    done_ += units;
    whole_.advance(units);
    if (Clock::now() - drawn_ > std::chrono::milliseconds(120)) draw();
}

void TerminalProgress::end() {
    const std::lock_guard lock(mutex_);
    clear();
    whole_.end(now());
    if (total_ == 0 || quiet_) return;
    const double seconds = std::chrono::duration<double>(Clock::now() - started_).count();
    if (!terminal_ || seconds > 1) log_->info("{}: done in {}", stage_, duration_text(seconds));
    total_ = 0;
}

void TerminalProgress::draw() {
    if (!terminal_ || quiet_ || total_ <= 0) return;
    drawn_ = Clock::now();
    const double share = std::min(1.0, static_cast<double>(done_) / static_cast<double>(total_));
    const double passed = std::chrono::duration<double>(drawn_ - started_).count();
    constexpr int kBar = 24;
    const int full = static_cast<int>(share * kBar);
    std::string bar;
    for (int i = 0; i < kBar; ++i)
        bar += i < full ? "█" : "░";
    std::string remaining;
    if (whole_.expects_any()) // of everything
        remaining = fmt::format("about {} left in all", duration_text(std::ceil(std::max(1.0, whole_.seconds(now())))));
    else if (share > 0.02)
        remaining = duration_text(passed * (1 - share) / share) + " left";
    std::fputs(
        fmt::format("\r\033[K{:<40} {} {:3.0f} %  {}", stage_.substr(0, 40), bar, 100 * share, remaining).c_str(),
        stderr);
    std::fflush(stderr);
    on_screen_ = true;
}

void TerminalProgress::clear() {
    if (on_screen_) std::fputs("\r\033[K", stderr);
    on_screen_ = false;
}

} // namespace kasane::cli

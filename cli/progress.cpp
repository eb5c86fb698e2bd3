#include "progress.hpp"

#include <kasane/report/tables.hpp>
#include <kasane/report/terminal_text.hpp>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

namespace kasane::cli {

namespace {

int columns_of_errors() {
    winsize size{};
    return ioctl(STDERR_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 ? size.ws_col : 80;
}

/// The first characters of UTF-8 text.
std::string cut_to(std::string text, int width) {
    while (!text.empty() && shown_width(text) > static_cast<std::size_t>(width)) {
        while (text.size() > 1 && (static_cast<unsigned char>(text.back()) & 0xc0) == 0x80)
            text.pop_back();
        text.pop_back();
    }
    return text;
}

/// Estimates are not known to a tenth.
std::string whole_seconds(double seconds) {
    const double whole = std::max(1.0, std::round(seconds));
    return whole < 60 ? fmt::format("{:.0f} s", whole) : duration_text(whole);
}

} // namespace

TerminalProgress::TerminalProgress(std::shared_ptr<spdlog::logger> log, bool quiet)
    : log_(std::move(log)), quiet_(quiet), terminal_(isatty(STDERR_FILENO) != 0) {
    if (terminal_ && !quiet_) clock_ = std::jthread([this](const std::stop_token& stop) { tick(stop); });
}

TerminalProgress::~TerminalProgress() {
    clock_ = {}; // stopped and waited for
    clear();
}

/// A line that is long on the screen is drawn again: the time that remains goes down.
void TerminalProgress::tick(const std::stop_token& stop) {
    constexpr auto kLong = std::chrono::milliseconds(1000);
    std::unique_lock lock(mutex_);
    while (!stop.stop_requested()) {
        woken_.wait_for(lock, stop, kLong, [] { return false; });
        if (!stop.stop_requested() && on_screen_ && Clock::now() - drawn_ >= kLong) draw();
    }
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
    whole_.advance(units, now());
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
    std::string remaining;
    if (whole_.expects_any()) // of everything
        remaining = fmt::format("about {} left in all", whole_seconds(whole_.seconds(now())));
    else if (share > 0.02)
        remaining = whole_seconds(passed * (1 - share) / share) + " left";
    const std::string end = fmt::format("{:3.0f} %  {}", 100 * share, remaining);
    // A line that is longer than the terminal is wide would stay there when it is drawn again.
    const int room = columns_of_errors() - 1 - static_cast<int>(end.size());
    const int bar = room >= 66 ? 24 : room >= 30 ? 10 : 0, name = std::clamp(room - bar - 2, 0, 40);
    std::string line = cut_to(clean(stage_), name);
    line.append(static_cast<std::size_t>(name) - shown_width(line) + 1, ' ');
    for (int i = 0; i < bar; ++i)
        line += i < static_cast<int>(share * bar) ? "█" : "░";
    std::fputs(fmt::format("\r\033[K{} {}", line, end).c_str(), stderr);
    std::fflush(stderr);
    on_screen_ = true;
}

void TerminalProgress::clear() {
    if (on_screen_) std::fputs("\r\033[K", stderr);
    on_screen_ = false;
}

} // namespace kasane::cli

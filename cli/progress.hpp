// Progress as a person at a terminal wants it, and plain lines elsewhere.
#pragma once

#include <kasane/base/progress.hpp>

#include <chrono>
#include <condition_variable>
#include <memory>
#include <mutex>
#include <spdlog/logger.h>
#include <thread>

namespace kasane::cli {

/// On a terminal: one line, redrawn, with a bar of the stage and the time that remains: of everything where it was said
/// what is to come, else of the stage at its rate; also while nothing is told for a while. Elsewhere: a line when a
/// stage ends. All on standard error.
class TerminalProgress final : public Progress {
public:
    TerminalProgress(std::shared_ptr<spdlog::logger> log, bool quiet);
    ~TerminalProgress() override;

    void expect(const std::vector<StageCost>& stages) override;
    void begin(const std::string& stage, std::int64_t total) override;
    void advance(std::int64_t units) override;
    void end() override;

private:
    using Clock = std::chrono::steady_clock;
    void draw();
    void clear();
    void tick(const std::stop_token& stop);
    double now() const;

    std::shared_ptr<spdlog::logger> log_;
    bool quiet_, terminal_;
    std::mutex mutex_;
    std::string stage_;
    std::int64_t total_ = 0, done_ = 0;
    Clock::time_point started_, drawn_;
    const Clock::time_point born_ = Clock::now();
    RemainingTime whole_;
    bool on_screen_ = false;
    std::condition_variable_any woken_;
    std::jthread clock_; ///< last: it is gone before what it looks at
};

} // namespace kasane::cli

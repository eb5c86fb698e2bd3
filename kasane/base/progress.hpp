// Progress reports and cancellation, seen from the work's side; how they are shown is the caller's business.
#pragma once

#include <kasane/base/remaining_time.hpp>

#include <atomic>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

namespace kasane {

/// Receives what a long run has to say. Calls may come from any thread. The base class is silent.
class Progress {
public:
    virtual ~Progress() = default;
    /// What is to come, stage by stage, from here on.
    virtual void expect(const std::vector<StageCost>& stages);
    /// A stage of `total` units of work starts ("measure", 48).
    virtual void begin(const std::string& stage, std::int64_t total);
    /// `units` more of the current stage are done.
    virtual void advance(std::int64_t units = 1);
    virtual void end();
};

/// A flag that any thread, or a signal handler, may raise. Copies share the flag.
class CancelToken {
public:
    CancelToken() : flag_(std::make_shared<std::atomic<bool>>(false)) {}
    void request() const noexcept { flag_->store(true, std::memory_order_relaxed); }
    bool requested() const noexcept { return flag_->load(std::memory_order_relaxed); }
    /// Throws Cancelled if the flag is raised.
    void check() const;

private:
    std::shared_ptr<std::atomic<bool>> flag_;
};

} // namespace kasane

/// @file base/progress.hpp
/// Progress and cancellation of long work. Thread-safe: any thread may report or cancel.

#pragma once
#include <atomic>
#include <functional>
#include <string>

#include "base/error.hpp"

namespace escultura {

/// Receives the progress of one piece of work and tells it whether to stop.
class Progress {
  public:
    /// Called with the name of the step and the share done (0 to 1); may be empty.
    using Listener = std::function<void(const std::string& step, double share)>;

    /// Called with points of a curve, such as "residual" over the iterations; may be empty.
    using Recorder = std::function<void(const std::string& curve, double x, double y)>;

    Progress() = default;
    explicit Progress(Listener listener, Recorder recorder = {})
        : listener_(std::move(listener)), recorder_(std::move(recorder)) {}
    /// Of a part of the work, which ends with the whole.
    explicit Progress(const Progress* whole) : whole_(whole) {}
    Progress(const Progress&) = delete;
    Progress& operator=(const Progress&) = delete;

    /// Reports a step and its share (0 to 1 of the step).
    /// @throws Cancelled when cancel() was called
    void step(const std::string& name, double share = 0) {
        check();
        if (listener_) listener_(name, share);
    }
    /// @throws Cancelled when cancel() was called
    void check() const {
        if (isCancelled()) throw Cancelled();
    }
    /// Reports one point of a curve. @throws Cancelled when cancel() was called
    void record(const std::string& curve, double x, double y) {
        check();
        if (recorder_) recorder_(curve, x, y);
    }
    void cancel() { cancelled_ = true; }
    bool isCancelled() const { return cancelled_.load(std::memory_order_relaxed) || (whole_ && whole_->isCancelled()); }

  private:
    Listener listener_;
    Recorder recorder_;
    const Progress* whole_ = nullptr;
    std::atomic<bool> cancelled_{false};
};

}  // namespace escultura

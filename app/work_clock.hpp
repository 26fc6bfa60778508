/// @file work_clock.hpp
/// How long running work still takes, from how long its steps took the last time and what was forecast for it.

#pragma once
#include <QElapsedTimer>
#include <QString>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace escultura::app {

/// Knows kinds of work by name. Use it from one thread.
class WorkClock {
  public:
    /// @param kind  such as "Check"; @param expected  seconds that were forecast for it, 0: no forecast
    void begin(const QString& kind, double expected);
    /// A step has begun or gone on. @param share  of the step, 0 to 1
    void step(const QString& name, double share);
    /// @param whole  it came to its end: what it took is a measure for the next
    void end(bool whole);
    /// Seconds; none: such work was not seen yet and nothing was forecast.
    std::optional<double> remaining() const;
    /// Seconds that work will take as a whole; 0: not known.
    double likely(const QString& kind, double expected) const;
    /// For tests: a clock of their own, seconds.
    void setTime(double (*now)()) { now_ = now; }

  private:
    struct Mark {
        QString step;
        double begun = 0, share = 0;  ///< seconds since the work began; where the step is
    };
    struct Course {
        double total = 0, expected = 0;
        std::vector<Mark> marks;  ///< one a step, in the order in which they began
    };
    double now() const;
    std::map<QString, Course> courses_;  ///< of the last time
    QString kind_;
    Course current_;
    bool runs_ = false;
    double started_ = 0;
    QElapsedTimer clock_;
    double (*now_)() = nullptr;
};

/// "about 40 s", "about 3 min".
QString timeWords(double seconds);

}  // namespace escultura::app

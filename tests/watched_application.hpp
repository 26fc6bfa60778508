/// @file watched_application.hpp
/// An application that knows how long each event kept the interface thread: the window does not answer meanwhile.

#pragma once
#include <QApplication>
#include <QElapsedTimer>
#include <QKeyEvent>
#include <QtTest>
#include <algorithm>
#include <cstdio>
#include <string>
#include <vector>

#include "main_window.hpp"

namespace escultura::app {

class WatchedApplication : public QApplication {
  public:
    struct Stall {
        double time = 0;  ///< ms
        std::string what;
    };
    using QApplication::QApplication;

    /// Times each event that is handled from the loop, not those within others.
    bool notify(QObject* receiver, QEvent* event) override {
        count(receiver, event);
        if (depth_++ > 0) {
            const bool done = QApplication::notify(receiver, event);
            --depth_;
            return done;
        }
        // told before: the receiver may be gone afterwards
        const std::string name = receiver->objectName().toStdString();
        const char* kind = receiver->metaObject()->className();
        const int type = event->type();
        QElapsedTimer clock;
        clock.start();
        const bool done = QApplication::notify(receiver, event);
        --depth_;
        add(1e-6 * static_cast<double>(clock.nsecsElapsed()), kind, name, type);
        return done;
    }
    /// The longest events so far, the longest first.
    const std::vector<Stall>& worst() const { return worst_; }
    double longest() const { return worst_.empty() ? 0 : worst_.front().time; }
    void forget() { worst_.clear(); }
    /// Clicks and keys since the start; words typed into a field count once.
    int gestures() const { return gestures_; }
    /// Runs a test and prints what kept the window longest.
    template <class Test>
    static int run(int argc, char** argv) {
        WatchedApplication application(argc, argv);
        Test test;
        const int failed = QTest::qExec(&test, argc, argv);
        std::printf("longest events on the interface thread, ms\n");
        for (const Stall& s : application.worst()) std::printf("%8.0f  %s\n", s.time, s.what.c_str());
        return failed;
    }

  private:
    void count(QObject* receiver, QEvent* event) {
        if (depth_ > 0 || !receiver->isWidgetType()) return;
        if (event->type() == QEvent::MouseButtonPress) {
            ++gestures_;
            typing_ = false;
        } else if (event->type() == QEvent::KeyPress) {
            const auto* key = static_cast<QKeyEvent*>(event);
            const bool typed = !key->text().isEmpty() && key->text()[0].isPrint() && receiver->inherits("QLineEdit");
            if (!typed || !typing_) ++gestures_;
            typing_ = typed;
        }
    }
    void add(double time, const char* kind, const std::string& name, int type) {
        constexpr std::size_t kept = 10;
        if (worst_.size() == kept && time <= worst_.back().time) return;
        worst_.push_back({time, std::string(kind) + " " + name + ", event " + std::to_string(type)});
        std::sort(worst_.begin(), worst_.end(), [](const Stall& a, const Stall& b) { return a.time > b.time; });
        if (worst_.size() > kept) worst_.pop_back();
    }
    int depth_ = 0, gestures_ = 0;
    bool typing_ = false;
    std::vector<Stall> worst_;
};

}  // namespace escultura::app

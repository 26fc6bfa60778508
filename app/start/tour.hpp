/// @file start/tour.hpp
/// Five steps over the window: where things are, one after the other.

#pragma once
#include <QFrame>
#include <QLabel>
#include <QPushButton>
#include <functional>
#include <vector>

namespace escultura::app {

class Tour : public QFrame {
    Q_OBJECT
  public:
    struct Step {
        QString title, words;
        QWidget* about = nullptr;       ///< what the step is about
        std::function<void()> prepare;  ///< brings it to sight; may be empty
    };
    Tour(std::vector<Step> steps, QWidget* window);
    void begin();
    int current() const { return current_; }
    /// Number of the last step, from 0.
    int last() const { return static_cast<int>(steps_.size()) - 1; }

  signals:
    void ended();

  protected:
    bool eventFilter(QObject* watched, QEvent* event) override;
    void keyPressEvent(QKeyEvent* e) override;

  private:
    void show(int step);
    void place();
    void end();
    std::vector<Step> steps_;
    int current_ = -1;
    QLabel *title_, *words_, *count_;
    QPushButton *back_, *next_;
    QFrame* frame_;  ///< around what the step is about
};

}  // namespace escultura::app

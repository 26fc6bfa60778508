/// @file view/panes.hpp
/// The open variant's view and up to three others beside it, with one camera.

#pragma once
#include <QGridLayout>
#include <QLabel>
#include <QWidget>
#include <vector>

#include "view/view.hpp"

namespace escultura::app {

class Panes : public QWidget {
    Q_OBJECT
  public:
    explicit Panes(View* main, QWidget* parent = nullptr);
    /// Ids of the variants that are shown beside the open one, at most three.
    const std::vector<std::int64_t>& companions() const { return companions_; }
    /// Puts a variant beside the open one, or takes it away when it is there.
    void toggle(std::int64_t variant);
    void setCompanions(std::vector<std::int64_t> variants);
    View& companion(std::size_t index) { return *panes_[index].view; }
    /// Words over a pane. @param index  -1: the open variant's
    void setCaption(int index, const QString& words);

  signals:
    void companionsChanged();

  private:
    struct Pane {
        QWidget* frame;
        QLabel* caption;
        View* view;
    };
    Pane makePane(View* view, const char* name);
    void layOut();
    void follow(View* moved);
    Pane main_;
    std::vector<Pane> panes_;
    std::vector<std::int64_t> companions_;
    QGridLayout* grid_;
};

}  // namespace escultura::app

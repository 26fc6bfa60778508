/// @file requirement_strip.hpp
/// All requirements, all the time: value against limit and state in words.

#pragma once
#include <QFrame>
#include <QHBoxLayout>

#include "session.hpp"
#include "widgets.hpp"

namespace escultura::app {

class RequirementStrip : public QFrame {
    Q_OBJECT
  public:
    explicit RequirementStrip(Session& session, QWidget* parent = nullptr);
    void refresh();

  signals:
    /// The stage that holds the evidence.
    void evidenceAsked(escultura::project::Stage stage);

  private:
    Session& session_;
    FlowLayout* row_;
};

}  // namespace escultura::app

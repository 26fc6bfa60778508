/// @file application.hpp
/// The application object: no exception of a slot or an event ends the window.

#pragma once
#include <QApplication>
#include <functional>

namespace escultura::app {

class Application : public QApplication {
  public:
    using QApplication::QApplication;
    /// Called with the message of an exception that a slot or an event let through.
    std::function<void(const QString& message)> problem;

    bool notify(QObject* receiver, QEvent* event) override;
};

}  // namespace escultura::app

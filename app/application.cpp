#include "application.hpp"

#include <cstdio>

namespace escultura::app {

bool Application::notify(QObject* receiver, QEvent* event) {
    QString message;
    try {
        return QApplication::notify(receiver, event);
    } catch (const std::bad_alloc&) {
        message = "There is not enough memory for this.";
    } catch (const std::exception& e) {
        message = e.what();
    } catch (...) {
        message = "Something unexpected happened; nothing was changed.";
    }
    std::fprintf(stderr, "error: %s\n", qPrintable(message));
    if (problem) problem(message);
    return false;
}

}  // namespace escultura::app

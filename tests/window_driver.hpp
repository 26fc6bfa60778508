/// @file window_driver.hpp
/// What tests of the window share: finding widgets by name, waiting for work, typing.

#pragma once
#include <QLineEdit>
#include <QtTest>
#include <memory>

#include "main_window.hpp"

namespace escultura::app {

struct WindowDriver {
    QTemporaryDir dir_;
    std::unique_ptr<MainWindow> w_;

    template <class T>
    T* find(const char* name) const {
        auto* x = w_->findChild<T*>(name);
        if (!x) qFatal("no widget '%s'", name);
        return x;
    }
    /// Waits until the worker is idle.
    bool settle() {
        return QTest::qWaitFor([this] { return !w_->session().isBusy(); }, 120000);
    }
    static void type(QLineEdit* edit, const QString& text) {
        edit->setFocus();
        edit->selectAll();
        QTest::keyClicks(edit, text);
        QTest::keyClick(edit, Qt::Key_Return);
    }
};

}  // namespace escultura::app

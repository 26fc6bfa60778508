/// @file window_driver.hpp
/// What tests of the window share: finding widgets by name, waiting for work, typing.

#pragma once
#include <QComboBox>
#include <QLineEdit>
#include <QPushButton>
#include <QtTest>
#include <memory>

#include "made_up_part.hpp"
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
    /// A fresh window on the made-up lever.
    void openLever(const nlohmann::json& part = made_up::leverPart()) {
        openWindow(QString::fromStdString(made_up::writeLever(dir_.path().toStdString(), part)));
    }
    /// A fresh window with nothing open.
    void emptyWindow() {
        qputenv("ESCULTURA_RECOVERY_FOLDER", dir_.filePath("recovery").toLocal8Bit());
        qputenv("ESCULTURA_RECENT_FOLDER", dir_.filePath("recent").toLocal8Bit());
        qputenv("ESCULTURA_AUTOMATIC_TESTS", "0");  // whoever wants them turns them on
        w_ = std::make_unique<MainWindow>();
        w_->setProperty("neverAsk", true);
        w_->show();
        QVERIFY(QTest::qWaitForWindowExposed(w_.get()));
        QApplication::setActiveWindow(w_.get());  // a bare X server has no window manager to do it
    }
    /// A fresh window on a part file or a project.
    void openWindow(const QString& path) {
        emptyWindow();
        w_->open(path);
        QVERIFY(settle());
        QVERIFY(w_->session().hasProject());
    }
    void closeWindow() {
        if (w_) w_->close();
        w_.reset();
    }
    /// Waits until the worker is idle.
    bool settle() {
        return QTest::qWaitFor([this] { return !w_->session().isBusy(); }, 600000);
    }
    /// Scrolls a card until a widget of it is in sight, as a user would.
    static void scrollTo(QWidget* w) {
        for (QWidget* p = w->parentWidget(); p; p = p->parentWidget())
            if (auto* area = qobject_cast<QScrollArea*>(p)) area->ensureWidgetVisible(w, 0, 8);
    }
    void click(const char* button) {
        auto* b = find<QPushButton>(button);
        QVERIFY2(b->isEnabled(), button);
        scrollTo(b);
        QTest::mouseClick(b, Qt::LeftButton);
    }
    void choose(const char* name, int index) {
        auto* box = find<QComboBox>(name);
        box->setCurrentIndex(index);
        emit box->activated(index);
    }
    static void type(QLineEdit* edit, const QString& text) {
        edit->setFocus();
        edit->selectAll();
        if (text.isEmpty()) QTest::keyClick(edit, Qt::Key_Delete);
        QTest::keyClicks(edit, text);
        QTest::keyClick(edit, Qt::Key_Return);
    }
};

}  // namespace escultura::app

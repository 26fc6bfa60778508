#include <QAction>
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QSlider>
#include <QTableWidget>
#include <QTimer>

#include "application.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// Every widget of every card and every action of every menu, in all states of the window: nothing may end it.
class TestWalkWindow : public QObject, WindowDriver {
    Q_OBJECT

    int touched_ = 0;

  public:
    QStringList problems_;  ///< exceptions that slots let through

  private:
    /// Ends what a click has started and closes what it has opened.
    void calm() {
        QTest::qWait(1);
        w_->session().cancel();
        QVERIFY(QTest::qWaitFor([this] { return !w_->session().isBusy() && !w_->session().isTesting(); }, 120000));
    }
    bool isLeftOut(const QObject* o) const {
        const QString name = o->objectName();
        return name.startsWith("actionDemo") || name.startsWith("demo ") || name.startsWith("recent ") ||
               name == "actionQuit" || name == "actionTour" || name == "startTour";
    }
    /// Clicks, chooses and slides what can be, and visits menus; objects may go while others are touched.
    void touch(QWidget* root) {
        QList<QPointer<QWidget>> widgets;
        for (QWidget* x : root->findChildren<QWidget*>()) widgets << x;
        for (const QPointer<QWidget>& x : widgets) {
            if (!x || !x->isVisible() || !x->isEnabled() || isLeftOut(x.data())) continue;
            if (auto* b = qobject_cast<QAbstractButton*>(x.data())) {
                QTest::mouseClick(b, Qt::LeftButton);
            } else if (auto* box = qobject_cast<QComboBox*>(x.data())) {
                QPointer<QComboBox> safe = box;
                for (int i = 0; safe && i < std::min(safe->count(), 6); ++i) {
                    safe->setCurrentIndex(i);
                    emit safe->activated(i);
                }
            } else if (auto* slider = qobject_cast<QSlider*>(x.data())) {
                slider->setValue(slider->minimum());
                QTest::keyClick(slider, Qt::Key_Right);
            } else if (auto* table = qobject_cast<QTableWidget*>(x.data())) {
                for (int r = 0; r < std::min(table->rowCount(), 3); ++r)
                    table->setCurrentCell(r, table->columnCount() - 1);
            } else {
                continue;
            }
            ++touched_;
            calm();
        }
    }
    void walk() {
        for (int s = 0; s < project::stageCount; ++s) {
            QTest::keyClick(w_.get(), static_cast<Qt::Key>(Qt::Key_1 + s));
            for (auto* card : w_->findChildren<QWidget*>("card"))
                if (card->isVisible() && card->isEnabled()) QTest::mouseMove(card);
            if (auto* dossier = w_->findChild<QWidget*>("dossier")) touch(dossier);
        }
        QList<QPointer<QAction>> actions;
        for (QAction* a : w_->findChildren<QAction*>()) actions << a;
        for (const QPointer<QAction>& a : actions) {
            if (!a || isLeftOut(a) || !a->isEnabled() || a->menu()) continue;
            try {  // in the program a menu's click comes through the event loop, which turns this into a message
                a->trigger();
            } catch (const std::exception& e) {
                problems_ << QString::fromStdString(e.what());
            }
            ++touched_;
            calm();
        }
        touch(w_.get());
        QVERIFY(w_->isVisible());
    }

  private slots:
    void initTestCase() {
        auto* closer = new QTimer(this);
        connect(closer, &QTimer::timeout, this, [] {
            if (auto* popup = QApplication::activePopupWidget()) popup->close();
            if (auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget())) dialog->reject();
        });
        closer->start(20);
    }
    void init() { problems_.clear(); }
    void cleanup() {
        closeWindow();
        // without a part a control that needs one may say so; nothing else lets an exception through
        for (const QString& p : problems_) QVERIFY2(p.startsWith("Nothing is open"), qPrintable(p));
    }
    void withoutAPart() {
        emptyWindow();
        // the first click of a new user
        for (auto* card : w_->findChildren<QWidget*>("card")) {
            QTest::mouseClick(card, Qt::LeftButton);
            QTest::mouseClick(card, Qt::LeftButton, {}, QPoint(30, 16));
        }
        walk();
        QVERIFY(!w_->session().hasProject());
        QVERIFY(touched_ > 20);
    }
    void withAMissingFile() {
        emptyWindow();
        w_->open(dir_.filePath("nowhere.json"));
        QVERIFY(settle());
        QVERIFY(find<QLabel>("error")->isVisible());
        walk();
    }
    void withABrokenPart() {
        QFile f(dir_.filePath("broken.json"));
        QVERIFY(f.open(QIODevice::WriteOnly));
        f.write("{\"format\": \"escultura-part\", \"version\": 1");
        f.close();
        emptyWindow();
        w_->open(f.fileName());
        QVERIFY(settle());
        QVERIFY(find<QLabel>("error")->isVisible());
        walk();
    }
    void withAPartJustOpened() {
        openLever();
        walk();
    }
    void withACheckedPart() {
        openLever();
        w_->session().run(Stage::findings);
        QVERIFY(settle());
        walk();
    }
};

int main(int argc, char** argv) {
    Application application(argc, argv);
    TestWalkWindow test;
    application.problem = [&](const QString& message) { test.problems_ << message; };
    return QTest::qExec(&test, argc, argv);
}
#include "test_walk_window.moc"

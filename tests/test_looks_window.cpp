#include <QAbstractButton>
#include <QCheckBox>
#include <QLabel>
#include <QScrollArea>
#include <QTableWidget>
#include <cmath>

#include "help/help_window.hpp"
#include "theme/theme.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// Every screen in both themes, at several sizes of the window and of the words: nothing is cut off, nothing lies over
/// another, nothing leaves its parent.
class TestLooksWindow : public QObject, public WindowDriver {
    Q_OBJECT
    QStringList faults_;
    int seen_ = 0;

    static QString nameOf(const QWidget* w) {
        QString text;
        if (auto* l = qobject_cast<const QLabel*>(w)) text = l->text();
        if (auto* b = qobject_cast<const QAbstractButton*>(w)) text = b->text();
        return QString("%1 '%2' '%3'").arg(w->metaObject()->className(), w->objectName(), text.left(60));
    }
    /// Content of a scroll area may be larger than what is seen of it.
    static bool scrolls(const QWidget* w) {
        const auto* area =
            w->parentWidget() ? qobject_cast<const QAbstractScrollArea*>(w->parentWidget()->parentWidget()) : nullptr;
        return area && area->viewport() == w->parentWidget();
    }
    void fault(const QString& screen, const QWidget* w, const QString& what) {
        const QString line = screen + ": " + nameOf(w) + " " + what;
        if (faults_.size() < 40 && !faults_.contains(line)) faults_ << line;
    }
    void look(const QString& screen) {
        QTest::qWait(30);
        for (auto* w : w_->findChildren<QWidget*>()) {
            if (!w->isVisible() || w->window() != w_.get() || !w->parentWidget()) continue;
            ++seen_;
            const bool inTable = qobject_cast<QAbstractItemView*>(w->parentWidget()->parentWidget());
            if (inTable || w->inherits("QHeaderView") || w->inherits("QTabBar") || w->inherits("QScrollBar")) continue;
            if (!scrolls(w) && !w->parentWidget()->rect().contains(w->geometry()) && !w->geometry().isEmpty() &&
                w->parentWidget()->layout())
                fault(screen, w,
                      QString("leaves its parent by %1")
                          .arg(std::max(w->geometry().right() - w->parentWidget()->width(),
                                        w->geometry().bottom() - w->parentWidget()->height())));
            if (auto* l = qobject_cast<QLabel*>(w)) {
                if (l->text().isEmpty() || l->sizePolicy().horizontalPolicy() == QSizePolicy::Ignored) continue;
                if (l->wordWrap() ? l->height() + 1 < l->heightForWidth(l->width())
                                  : l->width() + 1 < l->sizeHint().width())
                    fault(screen, w, "is cut off");
            } else if (auto* b = qobject_cast<QAbstractButton*>(w)) {
                if (!b->text().isEmpty() && b->width() + 2 < b->minimumSizeHint().width())
                    fault(screen, w, "is cut off");
            } else if (auto* box = qobject_cast<QComboBox*>(w)) {
                if (box->height() + 1 < box->fontMetrics().height()) fault(screen, w, "is too low");
            } else if (auto* e = qobject_cast<QLineEdit*>(w)) {
                if (e->height() < e->fontMetrics().height()) fault(screen, w, "is too low");
            }
        }
        // what a layout places does not overlap
        for (auto* parent : w_->findChildren<QWidget*>()) {
            if (!parent->isVisible() || !parent->layout()) continue;
            QList<QWidget*> placed;
            for (auto* w : parent->findChildren<QWidget*>(QString(), Qt::FindDirectChildrenOnly))
                if (w->isVisible() && !w->geometry().isEmpty()) placed << w;
            for (int i = 0; i < placed.size(); ++i)
                for (int k = 0; k < i; ++k)
                    if (placed[i]->geometry().intersects(placed[k]->geometry()) && !placed[i]->isWindow() &&
                        !placed[k]->isWindow())
                        fault(screen, placed[i], "lies over " + nameOf(placed[k]));
        }
    }
    static double brightness(const QColor& c) {
        auto part = [](double x) { return x <= 0.03928 ? x / 12.92 : std::pow((x + 0.055) / 1.055, 2.4); };
        return 0.2126 * part(c.redF()) + 0.7152 * part(c.greenF()) + 0.0722 * part(c.blueF());
    }
    /// Contrast of WCAG 2.
    static double contrast(const QColor& a, const QColor& b) {
        const double x = brightness(a), y = brightness(b);
        return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
    }

  private slots:
    void cleanupTestCase() {
        theme::apply(*qApp);
        closeWindow();
    }
    void wordsStandOutInBothThemes() {
        for (const bool dark : {false, true}) {
            theme::apply(*qApp, dark);
            for (const QColor& word : {theme::ink, theme::muted, theme::clay, theme::teal, theme::ochre})
                for (const QColor& ground : {theme::paper, theme::card})
                    QVERIFY2(contrast(word, ground) >= 4.5, qPrintable(word.name() + " on " + ground.name() +
                                                                       QString(" %1").arg(contrast(word, ground))));
            QVERIFY(contrast(theme::ochre, theme::warnGround) >= 4.5 &&
                    contrast(theme::clay, theme::wrongGround) >= 4.5);
            QVERIFY(contrast(theme::ink, theme::chosen) >= 4.5 && contrast(theme::ink, theme::soft) >= 4.5);
        }
        for (const QString& word : {theme::onDarkTeal, theme::onDarkOchre, theme::onDarkClay, theme::onDarkMuted})
            QVERIFY(contrast(QColor(word), QColor("#35332F")) >= 4.5);
        QVERIFY(contrast(Qt::white, QColor("#B4532A")) >= 4.5);  // the main action
        // icons take the ink of the theme
        theme::apply(*qApp, true);
        const QImage icon = theme::icon("table").pixmap(40, 40).toImage();
        int bright = 0;
        for (int y = 0; y < icon.height(); ++y)
            for (int x = 0; x < icon.width(); ++x)
                bright += qAlpha(icon.pixel(x, y)) > 200 && qGray(icon.pixel(x, y)) > 180;
        QVERIFY(bright > 20);
    }
    void everyScreen_data() {
        QTest::addColumn<bool>("dark");
        QTest::addColumn<int>("words");
        for (const bool dark : {false, true})
            for (const int words : {100, 150})
                QTest::newRow(qPrintable(QString("%1 %2").arg(dark ? "dark" : "light").arg(words))) << dark << words;
        QTest::newRow("light 200") << false << 200;
    }
    void everyScreen() {
        QFETCH(bool, dark);
        QFETCH(int, words);
        faults_.clear();
        if (!w_) {
            openLever();
            w_->session().run(Stage::findings);
            QVERIFY(settle());
            w_->session().run(Stage::rebuild);
            QVERIFY(settle());
        }
        w_->setLooks(dark, words);
        QTRY_VERIFY(!theme::isStyling());
        QTest::qWait(30);
        const auto* finder = find<QLineEdit>("finder");
        QVERIFY(w_->rect().contains(QRect(finder->mapTo(w_.get(), QPoint(0, 0)), finder->size())));
        QVERIFY(finder->width() >= theme::px(230));
        // words of twice the size are for screens that have as many more dots
        const std::vector<QSize> sizes = words > 150
                                             ? std::vector{QSize(2200, 1400), QSize(3840, 2160)}
                                             : std::vector{QSize(1100, 700), QSize(1280, 800), QSize(1920, 1080)};
        for (const QSize size : sizes) {
            w_->resize(size);
            const QString at = QString("%1 x %2").arg(size.width()).arg(size.height());
            for (int s = 0; s < project::stageCount; ++s) {
                w_->dossier().openCard(static_cast<Stage>(s));
                find<QPushButton>("drawerButton")->setChecked(false);
                look(QString("%1, card %2").arg(at).arg(s + 1));
                find<QPushButton>("drawerButton")->setChecked(true);
                for (int t = 0; t < w_->drawer().count(); ++t) {
                    if (!w_->drawer().isTabVisible(t)) continue;
                    w_->drawer().setCurrentIndex(t);
                    look(QString("%1, table %2").arg(at, w_->drawer().tabText(t)));
                }
                find<QPushButton>("drawerButton")->setChecked(false);
            }
            for (const Tool tool : {Tool::interfaces, Tool::loads, Tool::cage, Tool::features}) {
                w_->openTool(tool);
                look(QString("%1, tool %2").arg(at).arg(static_cast<int>(tool)));
            }
            w_->tools().open(Tool::none);
            w_->showStart();
            look(at + ", start page");
            QTest::mouseClick(find<QPushButton>("startBack"), Qt::LeftButton);
            QCOMPARE(w_->size(), size);
        }
        QVERIFY(seen_ > 5000);
        QVERIFY2(faults_.isEmpty(), qPrintable("\n" + faults_.join("\n")));
    }
    /// What can be typed or chosen says what it is, its unit and what it does.
    void fieldsHaveTips() {
        w_->setLooks(false, 100);
        QStringList without;
        for (auto* w : w_->findChildren<QWidget*>()) {
            const bool field = qobject_cast<QComboBox*>(w) || qobject_cast<QCheckBox*>(w) ||
                               qobject_cast<QAbstractSpinBox*>(w) ||
                               (qobject_cast<QLineEdit*>(w) && !qobject_cast<QComboBox*>(w->parentWidget()) &&
                                !qobject_cast<QAbstractSpinBox*>(w->parentWidget()));
            if (field && w->toolTip().isEmpty() && w->objectName() != "qt_spinbox_lineedit") without << nameOf(w);
        }
        for (const QString& each : without) qInfo("%s", qPrintable(each));
        QVERIFY(without.isEmpty());
    }
    void dialogsHaveIconsOfTheirOwn() {
        for (const auto& [what, name] :
             {std::pair{QStyle::SP_MessageBoxQuestion, "question"}, std::pair{QStyle::SP_MessageBoxWarning, "warning"},
              std::pair{QStyle::SP_DirIcon, "open"}, std::pair{QStyle::SP_FileIcon, "file"}}) {
            QVERIFY2(!theme::icon(name).isNull(), name);
            QCOMPARE(qApp->style()->standardIcon(what).pixmap(32, 32).toImage(),
                     theme::icon(name).pixmap(32, 32).toImage());
        }
    }
    /// F1 opens the page of the open card; links lead on; every page is there.
    void helpFollowsTheCard() {
        w_->setLooks(false, 100);
        QTest::keyClick(w_.get(), Qt::Key_6);
        QTest::keyClick(w_.get(), Qt::Key_F1);
        auto* help = w_->findChild<HelpWindow*>("helpWindow");
        QVERIFY(help && help->isVisible());
        QCOMPARE(help->current(), QString("findings.md"));
        auto* text = help->findChild<QTextBrowser*>("helpText");
        QVERIFY(text->toPlainText().contains("hotspot"));
        for (int s = 0; s < project::stageCount; ++s) {
            help->open(HelpWindow::pageOf(static_cast<Stage>(s)));
            QCOMPARE(help->current(), HelpWindow::pageOf(static_cast<Stage>(s)));
            QVERIFY(text->toPlainText().size() > 500);
        }
        emit text->anchorClicked(QUrl("glossary.md"));
        QCOMPARE(help->current(), QString("glossary.md"));
        QTest::keyClick(help, Qt::Key_Escape);
        QVERIFY(!help->isVisible());
    }
};

QTEST_MAIN(TestLooksWindow)
#include "test_looks_window.moc"

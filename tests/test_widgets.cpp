#include <QApplication>
#include <QMouseEvent>
#include <QtTest>

#include "dossier/cards.hpp"
#include "made_up_part.hpp"
#include "main_window.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// The parts of the window one by one.
class TestWidgets : public QObject, WindowDriver {
    Q_OBJECT
    static void drag(QWidget& w, const QPointF& from, const QPointF& to) {
        QTest::mousePress(&w, Qt::LeftButton, {}, from.toPoint());
        QMouseEvent move(QEvent::MouseMove, to, w.mapToGlobal(to), Qt::NoButton, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(&w, &move);
        QTest::mouseRelease(&w, Qt::LeftButton, {}, to.toPoint());
    }

  private slots:
    void initTestCase() {
        theme::apply(*qApp);
        openLever();
        w_->session().edit("Element size", [](project::Project& p) { p.variants[0].recipe.elementSize = 3.5; });
        w_->session().run(Stage::findings);
        QVERIFY(settle());
    }
    void cleanupTestCase() { w_->close(); }

    void quantityEditShowsItsUnit() {
        QuantityEdit e(dimension::force, "kN", 0, 1e9);
        e.setValue(2500);
        QCOMPARE(e.text(), "2.5 kN");
        QSignalSpy entered(&e, &QuantityEdit::valueEntered), wrong(&e, &QuantityEdit::errorChanged);
        type(&e, "2*450 lbf");
        QCOMPARE(entered.size(), 1);
        QVERIFY(std::abs(entered[0][0].toDouble() - 900 * 4.4482216152605) < 1e-9);
        QVERIFY(e.text().endsWith("kN"));
        type(&e, "5 mm");
        QCOMPARE(entered.size(), 1);  // another kind: refused, in a sentence
        QVERIFY(wrong.back()[0].toString().startsWith("Type "));
        type(&e, "1 kN");
        QVERIFY(wrong.back()[0].toString().isEmpty());
        e.setValue(1234.5678);
        const auto before = entered.size();
        QTest::keyClick(&e, Qt::Key_Return);  // nothing typed: the rounded text does not become the value
        QCOMPARE(entered.size(), before);
        QCOMPARE(e.value(), 1234.5678);
    }
    void tablesCopyAsCsv() {
        QTableWidget* t = table({"Name", "Value, mm"});
        fill(t, {{"a \"quoted\", one", "1.5"}, {"b", "2"}});
        QCOMPARE(tableAsCsv(t), "Name,\"Value, mm\"\n\"a \"\"quoted\"\", one\",1.5\nb,2\n");
        QVERIFY(t->item(0, 1)->textAlignment() & Qt::AlignRight);
        QVERIFY(!(t->item(0, 0)->textAlignment() & Qt::AlignRight));
        delete t;
    }
    void thresholdFollowsTheKeys() {
        ThresholdControl c;
        c.resize(300, 104);
        c.setData(std::vector<double>(40, 0.025), std::vector<double>(40, 0.5), 0.7);
        c.setValue(0.5);
        QSignalSpy moved(&c, &ThresholdControl::valueMoved);
        QTest::keyClick(&c, Qt::Key_Right);
        QVERIFY(std::abs(c.value() - 0.51) < 1e-12);
        QTest::keyClick(&c, Qt::Key_Left, Qt::ShiftModifier);
        QVERIFY(std::abs(c.value() - 0.46) < 1e-12);
        QCOMPARE(moved.size(), 2);
        for (int i = 0; i < 30; ++i) QTest::keyClick(&c, Qt::Key_Left, Qt::ShiftModifier);
        QVERIFY(c.value() > 0);  // never at the end, where everything would be kept
        QVERIFY(!c.grab().toImage().isNull());
    }
    void aWantedMassIsSolvedFor() {
        w_->dossier().openCard(Stage::field);
        const double old = w_->session().recipe().threshold;
        const auto field = w_->session().project().field();
        const double density = w_->session().project().part.material.density;
        const double wanted = field->keptVolume->volume(0.75) * density;
        type(find<QLineEdit>("wantedMass"), QString::number(1000 * wanted, 'g', 9) + " g");
        const double t = w_->session().recipe().threshold;
        QVERIFY(t != old);
        const double reached = field->keptVolume->volume(t) * density;
        QVERIFY2(std::abs(reached / wanted - 1) < 0.01,
                 qPrintable(QString("%1 of %2 kg at %3").arg(reached).arg(wanted).arg(t)));
        w_->session().undoStack().undo();
        QCOMPARE(w_->session().recipe().threshold, old);
    }
    void legendHandlesClampTheRange() {
        View& v = w_->view();
        w_->viewBar().setShow(report::Show::check);
        emit w_->viewBar().changed();
        QSignalSpy chosen(&v, &View::rangeChosen);
        const auto at = render::legendLayout(v.size(), QFontMetricsF(v.font()));
        drag(v, QPointF(at.bar.center().x(), at.bar.top() + 2), QPointF(at.bar.center().x(), at.bar.center().y()));
        QCOMPARE(chosen.size(), 1);
        const double peak = w_->session().lastKnown().check->envelope.maxStress;
        QVERIFY(std::abs(chosen[0][1].toDouble() / (0.5 * peak) - 1) < 0.02);
        QVERIFY(std::abs(chosen[0][0].toDouble()) < 1e-9);
        QTest::mouseDClick(&v, Qt::LeftButton, {}, at.card.center().toPoint());
        QVERIFY(std::isnan(chosen.back()[1].toDouble()));
    }
    void theViewBarHasWhatApplies() {
        ViewBar& bar = w_->viewBar();
        bar.setShow(report::Show::surface);
        bar.refresh();
        QVERIFY(!find<QComboBox>("quantity")->isVisible() && !find<QComboBox>("loadCase")->isVisible());
        bar.setShow(report::Show::check);
        bar.setLoadCase(-1);
        bar.refresh();
        QVERIFY(find<QComboBox>("quantity")->isVisible());
        QVERIFY(!find<QComboBox>("shape")->isVisible());  // the worst of all cases has no one shape
        bar.setLoadCase(1);
        bar.refresh();
        QVERIFY(find<QComboBox>("shape")->isVisible());
        QCOMPARE(bar.options().loadCase, 1);
        // lengths on an enlarged shape are not the part's: the view knows
        choose("shape", 3);
        QVERIFY(w_->view().isDeformed());
        choose("shape", 0);
        QVERIFY(!w_->view().isDeformed());
    }
    void clickingACaseShowsIt() {
        w_->dossier().openCard(Stage::check);
        auto* cases = find<QTableWidget>("checkCases");
        QTest::mouseClick(cases->viewport(), Qt::LeftButton, {}, cases->visualItemRect(cases->item(1, 0)).center());
        QCOMPARE(w_->viewBar().options().loadCase, 1);
        QTest::mouseClick(cases->viewport(), Qt::LeftButton, {}, cases->visualItemRect(cases->item(0, 0)).center());
        QCOMPARE(w_->viewBar().options().loadCase, 0);
    }
    void deviationIsShownOnRequest() {
        w_->dossier().openCard(Stage::surface);
        auto* b = find<QPushButton>("showDeviation");
        QTest::mouseClick(b, Qt::LeftButton);
        QCOMPARE(w_->viewBar().options().show, report::Show::deviation);
        QTest::mouseClick(b, Qt::LeftButton);
        QCOMPARE(w_->viewBar().options().show, report::Show::surface);
        QVERIFY(find<QLabel>("surfaceFigures")->text().contains("Deviation"));
    }
    void cardsSayWhatTheyHold() {
        for (auto* card : w_->findChildren<Card*>()) {
            w_->dossier().openCard(card->stage());
            QVERIFY(card->isOpen());
            QVERIFY(!card->accessibleName().isEmpty());
            for (auto* button : card->findChildren<QPushButton*>()) QVERIFY(!button->text().isEmpty());
        }
        w_->dossier().openCard(Stage::duty);
        QCOMPARE(find<QTableWidget>("interfaces")->rowCount(), 2);
        QCOMPARE(find<QTableWidget>("dutyCases")->item(0, 1)->text(), "(0, -0.5, 0)");
    }
    void choosingAFindingShowsIt() {
        w_->dossier().openCard(Stage::findings);
        auto* list = find<QTableWidget>("findings");
        QVERIFY(list->rowCount() > 0);
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(list->item(0, 0)).center());
        QCOMPARE(w_->viewBar().options().show, report::Show::check);
        QCOMPARE(w_->viewBar().options().loadCase, -1);
    }
    void requirementsLeadToTheirEvidence() {
        w_->dossier().openCard(Stage::check);
        QTest::qWait(100);
        for (auto* b : w_->findChildren<QPushButton*>("requirement"))
            if (b->isVisible() && b->accessibleName().contains("mass")) {
                QTest::mouseClick(b, Qt::LeftButton);
                break;
            }
        for (auto* card : w_->findChildren<Card*>()) QCOMPARE(card->isOpen(), card->stage() == Stage::surface);
    }
    void theShelfComparesWithTheBaseline() {
        w_->session().edit("New variant", [](project::Project& p) {
            p.variants.push_back(p.variants[0]);
            p.variants[1].id = 2;
            p.variants[1].name = "B";
            p.variants[1].recipe.threshold = 0.3;
            p.open = 1;
        });
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        QTest::qWait(100);
        bool compared = false;
        for (auto* f : w_->findChildren<QFrame*>("card"))
            if (f->property("variant").toInt() == 1 && f->property("variant").isValid())
                for (auto* l : f->findChildren<QLabel*>()) compared = compared || l->text().contains("%");
        QVERIFY(compared);
        w_->session().undoStack().undo();
        QCOMPARE(w_->session().project().variants.size(), std::size_t(1));
    }
    void typingDigitsInAFieldOpensNoCard() {
        w_->dossier().openCard(Stage::check);
        auto* size = find<QLineEdit>("elementSize");
        size->setFocus();
        size->selectAll();
        QTest::keyClicks(size, "3.5");
        QCOMPARE(size->text(), "3.5");
        for (auto* card : w_->findChildren<Card*>()) QCOMPARE(card->isOpen(), card->stage() == Stage::check);
    }
    void iconsAreThere() {
        for (const char* name :
             {"open", "save",      "undo",       "redo",  "fit",  "plus",     "play",  "stop",   "table",  "folder",
              "down", "escultura", "interfaces", "loads", "cage", "features", "close", "window", "larger", "smaller"})
            QVERIFY2(!theme::icon(name).pixmap(20, 20).isNull(), name);
    }
};

QTEST_MAIN(TestWidgets)
#include "test_widgets.moc"

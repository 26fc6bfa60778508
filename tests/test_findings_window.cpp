#include <QApplication>
#include <QCheckBox>
#include <QLabel>
#include <QListWidget>
#include <QMessageBox>
#include <QTableWidget>
#include <QtTest>

#include "base/signature.hpp"
#include "duty/part_numbers.hpp"
#include "duty/requirement_text.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"
#include "theme/theme.hpp"
#include "widgets.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// From results to a signed release in the real window, with mouse and keyboard, on the made-up lever.
class TestFindingsWindow : public QObject, WindowDriver {
    Q_OBJECT
    Session& session() { return w_->session(); }
    QTableWidget* list() { return find<QTableWidget>("findings"); }
    void check() {
        session().run(Stage::findings);
        QVERIFY(settle());
        QVERIFY(session().freshness(Stage::findings) == Freshness::fresh);
    }
    void selectRow(QTableWidget* t, int row) {
        t->scrollToItem(t->item(row, 0));
        QTest::mouseClick(t->viewport(), Qt::LeftButton, {}, t->visualItemRect(t->item(row, 0)).center());
    }
    void signAll() {
        for (int r = 0; r < list()->rowCount(); ++r) {
            list()->setCurrentCell(r, 0);
            QTRY_VERIFY(find<QPushButton>("signDisposition")->isVisible());
            QCoreApplication::processEvents();
            find<QLineEdit>("dispositionReason")->setText("made-up reason");
            find<QLineEdit>("dispositionName")->setText("A. Tester");
            click("signDisposition");
        }
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void init() {
        openLever();
        session().edit("Element size", [](project::Project& p) { p.variants[0].recipe.elementSize = 3; });
        check();
        QTest::keyClick(w_.get(), Qt::Key_6);
        QVERIFY(settle());
    }
    void cleanup() { closeWindow(); }

    void hotspotsAreTestedAndShown() {
        QVERIFY(list()->rowCount() > 0);
        selectRow(list(), 0);
        QVERIFY(find<QLabel>("findingDetail")->text().contains("Not tested"));
        const Vec3 before = w_->view().camera().focus;
        click("testHotspot");
        QVERIFY(settle());
        QVERIFY(!find<QPushButton>("testHotspot")->isEnabled());
        QVERIFY(find<QLabel>("findingDetail")->text().contains("exponent"));
        const QString verdict = list()->item(0, 1)->text();
        QVERIFY2(verdict == "real" || verdict == "boundary artefact" || verdict == "unresolved", qPrintable(verdict));
        const auto findings = judge::findingsOf(session().project(), session().recipe());
        QVERIFY((w_->view().camera().focus - findings[0].position).norm() < 1e-6);
        Q_UNUSED(before);
        // isolated: fewer triangles of the part in colour, its mesh drawn, the camera near
        const double height = w_->view().camera().height;
        scrollTo(find<QCheckBox>("isolate"));
        QTest::mouseClick(find<QCheckBox>("isolate"), Qt::LeftButton, {}, QPoint(8, 8));
        QVERIFY(find<QCheckBox>("isolate")->isChecked());
        QVERIFY(w_->view().camera().height < height);
    }
    void sensitivityIsLive() {
        auto* slider = find<QSlider>("sensitivity");
        slider->setSliderDown(true);
        slider->setValue(40);
        const QString high = find<QLabel>("sensitivityLevel")->text();
        slider->setValue(1);
        const QString low = find<QLabel>("sensitivityLevel")->text();
        QVERIFY2(high != low && low.contains("hotspot"), qPrintable(low));
        QVERIFY(session().freshness(Stage::findings) == Freshness::fresh);  // nothing is run while it is dragged
        slider->setSliderDown(false);
        QVERIFY(settle());
        QVERIFY(std::abs(session().recipe().hotspotShare - 0.01) < 1e-9);
        QVERIFY(session().freshness(Stage::findings) == Freshness::fresh);
        const int shown = low.section(": ", 1).section(' ', 0, 0).toInt();
        int hotspots = 0;
        for (const auto& f : judge::findingsOf(session().project(), session().recipe()))
            hotspots += f.kind == stages::Finding::Kind::hotspot;
        QCOMPARE(shown, hotspots);
    }
    void aProposalBecomesAVariant() {
        selectRow(list(), 0);
        type(find<QLineEdit>("thickenAmount"), "1 mm");
        auto* offers = find<QLabel>("proposals");
        const QString words = offers->text();
        QVERIFY2(words.contains("Thicken by 1 mm"), qPrintable(words));
        const int at = words.indexOf("Thicken by 1 mm");
        const QString key = words.mid(words.indexOf("href", at)).section('\'', 1, 1).section('"', 0, 0);
        emit offers->linkActivated(key.isEmpty() ? "0" : key);
        QCOMPARE(session().project().variants.size(), std::size_t(2));
        QVERIFY(session().variant().origin.variant != 0);
        QVERIFY(offers->text().contains("not measured yet"));
        check();
        QVERIFY2(offers->text().contains("measured <b>"), qPrintable(offers->text()));
        // side by side with Ctrl+click, cameras follow each other
        QTest::mouseClick(w_->findChildren<QFrame*>("card").at(0), Qt::LeftButton, Qt::ControlModifier);
        QCOMPARE(w_->panes().companions().size(), std::size_t(1));
        w_->view().look(Vec3(0, 0, -1), Vec3::UnitY());
        QVERIFY((w_->panes().companion(0).camera().direction - Vec3(0, 0, -1)).norm() < 1e-9);
        QTest::mouseClick(w_->findChildren<QFrame*>("card").at(0), Qt::LeftButton, Qt::ControlModifier);
        QVERIFY(w_->panes().companions().empty());
        // the difference to the baseline
        find<QAction>("difference")->setChecked(true);
        QVERIFY(settle());
        find<QAction>("difference")->setChecked(false);
        // the drawer compares
        QTest::keyClick(w_.get(), Qt::Key_T, Qt::ControlModifier);
        QTest::qWait(50);
        QCOMPARE(find<QTableWidget>("variantsTable")->rowCount(), 2);
        QVERIFY(find<QTableWidget>("comparisonTable")->rowCount() >= 9);
        bool told = false;
        auto* differs = find<QTableWidget>("differences");
        for (int r = 0; r < differs->rowCount(); ++r)
            told = told || differs->item(r, 0)->text().contains("thickenings");
        QVERIFY(told);
        QCOMPARE(find<PlotView>("variantsScatter")->itemCount(), 2);
        choose("variantsQuantity", 3);
        QCOMPARE(find<PlotView>("variantsCurve")->itemCount(), 4);  // two cases of two variants
        // undone: the variant goes
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(session().project().variants.size(), std::size_t(1));
    }
    void requirementsAreEdited() {
        QTest::keyClick(w_.get(), Qt::Key_7);
        click("editRequirements");
        auto* rows = find<QTableWidget>("requirementsTable");
        QCOMPARE(rows->rowCount(), 3);
        selectRow(rows, 1);
        QCOMPARE(find<QComboBox>("requirementKind")->currentText(), QString("displacement"));
        find<QLineEdit>("requirementLimit")->setText("1/50 mm");
        choose("requirementInterface", 2);
        find<QLineEdit>("requirementSource")->setText("clause 7");
        click("changeRequirement");
        QVERIFY(settle());
        const auto& r = session().project().part.requirements[1];
        QCOMPARE(r.limit, 0.02);
        QCOMPARE(r.interface, std::string("eye"));
        QCOMPARE(r.source, std::string("clause 7"));
        QVERIFY(rows->item(1, 3)->text().startsWith("not met"));
        find<QLineEdit>("requirementLimit")->setText("heavy");
        click("addRequirement");
        QVERIFY(find<QLabel>("error")->isVisible());
        QCOMPARE(session().project().part.requirements.size(), std::size_t(3));
        // a proposal by use fills the form, and says that it is one
        choose("requirementKind", 2);
        auto* uses = find<QComboBox>("factorByUse");
        QCOMPARE(uses->count(), 1 + static_cast<int>(duty::factorsByUse().size()));
        const int lifting = uses->findText("metal part of a sling", Qt::MatchStartsWith);
        QVERIFY(uses->itemText(lifting).endsWith("4 against breaking"));
        uses->setCurrentIndex(lifting);
        emit uses->activated(lifting);
        QCOMPARE(find<QComboBox>("requirementKind")->currentText(), QString("safety factor"));
        click("addRequirement");
        QVERIFY(settle());
        QCOMPARE(session().project().part.requirements.size(), std::size_t(4));
        QCOMPARE(session().project().part.requirements[3].limit, 4.0);
        QVERIFY(session().project().part.requirements[3].source.find("proposal for metal part of a sling") == 0);
        QVERIFY(session().project().part.requirements[3].source.find("2006/42/EC") != std::string::npos);
        session().undoStack().undo();
        QVERIFY(settle());
        QCOMPARE(session().project().part.requirements.size(), std::size_t(3));
        choose("requirementTemplates", 1);
        click("useTemplate");
        QVERIFY(settle());
        QVERIFY(session().project().part.requirements.size() > 5);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(session().project().part.requirements.size(), std::size_t(3));
    }
    /// A figure of a further analysis is required in the form, with another unit; the check then works it out unasked,
    /// and the Check card says why it cannot be left out.
    void frequenciesAreRequired() {
        QTest::keyClick(w_.get(), Qt::Key_7);
        click("editRequirements");
        auto* kind = find<QComboBox>("requirementKind");
        const int at = kind->findText("lowest natural frequency");
        QVERIFY(at >= 0);
        choose("requirementKind", at);
        QVERIFY(!find<QComboBox>("requirementCase")->isEnabled());
        find<QLineEdit>("requirementLimit")->setText("0.12 kHz");
        find<QLineEdit>("requirementSource")->setText("clause 9");
        click("addRequirement");
        QVERIFY(settle());
        const auto& r = session().project().part.requirements.back();
        QVERIFY(r.kind == duty::Requirement::Kind::figure);
        QVERIFY(std::abs(r.limit - 120) < 1e-9);
        auto* rows = find<QTableWidget>("requirementsTable");
        const int row = rows->rowCount() - 1;
        QCOMPARE(rows->item(row, 0)->text(), QString("lowest natural frequency"));
        QVERIFY2(rows->item(row, 3)->text().contains("not worked out"), qPrintable(rows->item(row, 3)->text()));
        selectRow(rows, row);  // read back into the form
        QCOMPARE(find<QLineEdit>("requirementLimit")->text(), QString("120 Hz"));
        session().run(Stage::check);
        QVERIFY(settle());
        w_->drawer().refresh();
        QVERIFY2(rows->item(row, 3)->text().startsWith("met"), qPrintable(rows->item(row, 3)->text()));
        QTest::keyClick(w_.get(), Qt::Key_5);
        auto* asked = find<QCheckBox>("asks natural_frequencies");
        QVERIFY(asked->isChecked() && !asked->isEnabled());
        QVERIFY(asked->toolTip().contains("requirement"));
        QVERIFY(find<QCheckBox>("asks buckling")->isEnabled());
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QVERIFY(asked->isEnabled() && !asked->isChecked());
    }
    void aStudyRunsAndIsAdopted() {
        QTest::keyClick(w_.get(), Qt::Key_U, Qt::ControlModifier);
        choose("studyKind", 1);
        auto* parameters = find<QListWidget>("studyParameters");
        for (int i = 0; i < parameters->count(); ++i)
            if (parameters->item(i)->text().contains("pull: load factor"))
                parameters->item(i)->setCheckState(Qt::Checked);
        find<QLineEdit>("studyLow")->setText("1");
        find<QLineEdit>("studyHigh")->setText("2");
        find<QSpinBox>("studyCount")->setValue(2);
        click("runStudy");
        QVERIFY(settle());
        QTRY_COMPARE(find<QTableWidget>("studyTable")->rowCount(), 2);
        QCOMPARE(find<PlotView>("studyPlot")->itemCount(), 2);
        selectRow(find<QTableWidget>("studyTable"), 1);
        click("adoptEvaluation");
        QVERIFY(settle());
        QCOMPARE(session().project().variants.size(), std::size_t(2));
        QCOMPARE(session().part().loadCases[1].factor, 2.0);
        find<QLineEdit>("studyHigh")->setText("wide");
        click("runStudy");
        QVERIFY(find<QLabel>("error")->isVisible());
        // a range in other units than the number's own
        for (int i = 0; i < parameters->count(); ++i)
            parameters->item(i)->setCheckState(parameters->item(i)->text().startsWith("smoothing") ? Qt::Checked
                                                                                                   : Qt::Unchecked);
        find<QLineEdit>("studyLow")->setText("1/8 in");
        find<QLineEdit>("studyHigh")->setText("2 kg");
        click("runStudy");
        QCOMPARE(session().project().studies.size(), std::size_t(1));
        find<QLineEdit>("studyHigh")->setText("0.5 cm");
        QCOMPARE(find<QSpinBox>("studyCount")->value(), 2);  // as it was set, whatever was refreshed since
        click("runStudy");
        QVERIFY(settle());
        const auto& axis = session().project().studies.back().axes[0];
        QVERIFY(std::abs(axis.low - 3.175) < 1e-12 && std::abs(axis.high - 5) < 1e-12);
    }
    void signedReleaseAndWhatChangedSince() {
        QTest::keyClick(w_.get(), Qt::Key_7);
        QVERIFY(!find<QPushButton>("writeRelease")->isEnabled());
        auto* blockers = find<QLabel>("blockers");
        QVERIFY(blockers->text().contains("has no disposition"));
        emit blockers->linkActivated("fH1");  // leads to its place
        QCOMPARE(list()->currentRow(), 0);
        QVERIFY(blockers->text().contains("could govern and is not tested"));
        session().testHotspots({});
        QVERIFY(settle());
        signAll();
        QTest::keyClick(w_.get(), Qt::Key_7);
        QVERIFY2(find<QPushButton>("writeRelease")->isEnabled(), qPrintable(blockers->text()));
        click("writeRelease");  // without a name: refused
        QVERIFY(session().project().releases.empty());
        const QString folder = dir_.filePath("release");
        const QString key = dir_.filePath("signer.pem");
        writeNewKey(key.toStdString());
        QCOMPARE(QFile(key).permissions() & (QFile::ReadGroup | QFile::ReadOther), QFile::Permissions());
        w_->releaseTo(folder, judge::SignOff{"A. Tester", "engineer", "2026-01-01", "first"}, key + ".pub");
        QVERIFY(settle());  // a public key signs nothing
        QVERIFY(session().project().releases.empty() && !QFileInfo::exists(folder));
        w_->releaseTo(folder, judge::SignOff{"A. Tester", "engineer", "2026-01-01", "first"}, key);
        QVERIFY(settle());
        w_->checkRelease(folder, key + ".pub");
        QVERIFY(settle());
        auto* told = w_->findChild<QMessageBox*>("releaseChecked");
        QVERIFY(told);
        QVERIFY2(told->text().contains("statements hold"), qPrintable(told->text()));
        QVERIFY(told->informativeText().contains("holds, by key"));
        told->close();
        QCOMPARE(session().project().releases.size(), std::size_t(1));
        QVERIFY(QFileInfo(folder + "/manifest.json").size() > 500);
        QFile html(folder + "/report.html");
        QVERIFY(html.open(QIODevice::ReadOnly));
        const QString report = html.readAll();
        QVERIFY(report.contains("Sign-off") && report.contains("A. Tester") && report.contains("made-up reason"));
        QVERIFY(find<QLabel>("releases")->text().contains("unchanged since"));
        session().edit("Load", [](project::Project& p) {
            duty::setNumber(p.variants[0].recipe.numbers, "/load_cases/down/factor", 1.2);
        });
        QVERIFY(settle());
        QVERIFY2(find<QLabel>("releases")->text().contains("down: load factor: 1 → 1.2"),
                 qPrintable(find<QLabel>("releases")->text()));
        // undo does not take a signature back
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(session().project().releases.size(), std::size_t(1));
    }
    void undoReachesBackAcrossSessions() {
        const std::string first = session().variant().name;
        session().edit("Rename", [](project::Project& p) { p.variants[0].name = "Renamed"; });
        session().edit("Threshold", [](project::Project& p) { p.variants[0].recipe.threshold = 0.45; });
        const QString file = dir_.filePath("kept.escultura");
        session().saveProject(file);
        QVERIFY(settle());
        closeWindow();
        w_ = std::make_unique<MainWindow>();
        w_->setProperty("neverAsk", true);
        w_->show();
        QVERIFY(QTest::qWaitForWindowExposed(w_.get()));
        QApplication::setActiveWindow(w_.get());
        w_->open(file);
        QVERIFY(settle());
        QCOMPARE(session().variant().name, std::string("Renamed"));
        QCOMPARE(session().recipe().threshold, 0.45);
        QVERIFY(session().undoStack().canUndo());
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(session().recipe().threshold, 0.5);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(session().variant().name, first);
        QTest::keyClick(w_.get(), Qt::Key_H, Qt::ControlModifier);
        QVERIFY(find<QTableWidget>("drawerHistory")->isVisible());
        QVERIFY(find<QTableWidget>("drawerHistory")->rowCount() >= 4);
        QVERIFY(session().project().history.size() >= 4);
    }
    void unsavedWorkIsOffered() {
        // a window that is gone without closing leaves its journal
        session().edit("Rename", [](project::Project& p) { p.variants[0].name = "Unsaved"; });
        w_.reset();
        w_ = std::make_unique<MainWindow>();
        w_->setProperty("neverAsk", true);
        w_->show();
        QVERIFY(QTest::qWaitForWindowExposed(w_.get()));
        click("recover");  // on the start page: nothing stands before it
        QVERIFY(settle());
        QVERIFY(session().hasProject());
        QCOMPARE(session().variant().name, std::string("Unsaved"));
        QVERIFY(session().isModified());
    }
};

QTEST_MAIN(TestFindingsWindow)
#include "test_findings_window.moc"

#include <QAction>
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QDialogButtonBox>
#include <QListWidget>
#include <QPlainTextEdit>
#include <QTableWidget>

#include "dossier/cards.hpp"
#include "duty/part_numbers.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "store/storage.hpp"
#include "theme/theme.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;

class TestDutyWindow : public QObject, private WindowDriver {
    Q_OBJECT

    const Part& part() const { return w_->session().project().part; }
    int rowOf(QTableWidget* t, const QString& first, const QString& second) {
        for (int r = 0; r < t->rowCount(); ++r)
            if (t->item(r, 0)->text().trimmed() == first && t->item(r, 1)->text() == second) return r;
        return -1;
    }
    void openDuty() {
        w_->dossier().openCard(Stage::duty);
        click("editLoads");
        QVERIFY(find<QTableView>("dutyList")->isVisible());
    }
    void select(const QString& first, const QString& second) {
        auto* t = find<QTableWidget>("dutyTable");
        const int r = rowOf(t, first, second);
        QVERIFY2(r >= 0, qPrintable(first + " " + second));
        t->setCurrentCell(r, 0);
    }
    void runAll() {
        w_->session().run(Stage::findings);
        QVERIFY(settle());
        QVERIFY(w_->session().lastKnown().check != nullptr);
    }

  private slots:
    void init() { openLever(); }
    void cleanup() { closeWindow(); }

    void aLoadIsEditedAndUndone() {
        openDuty();
        select("pull", "force");
        type(find<QLineEdit>("dutyFirstX"), "2*450 lbf");
        click("applyDuty");
        QVERIFY(std::abs(part().loadCases[1].loads[0].force[0] - 900 * 4.4482216152605) < 1e-4);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(part().loadCases[1].loads[0].force[0], 2000.0);
        // another kind: a torque
        select("pull", "force");
        choose("dutyKind", static_cast<int>(Load::Kind::torque));
        QVERIFY(!find<QLineEdit>("dutyFirstY")->isVisible());
        type(find<QLineEdit>("dutyFirstX"), "12 N*m");
        click("applyDuty");
        QVERIFY(part().loadCases[1].loads[0].kind == Load::Kind::torque);
        QVERIFY(std::abs(part().loadCases[1].loads[0].torque - 12000) < 1e-9);
    }
    void allFiguresOfAKindCanBeTyped() {
        openDuty();
        select("pull", "force");
        choose("dutyKind", static_cast<int>(Load::Kind::remoteForce));
        QCOMPARE(find<QLineEdit>("dutyFirstX")->text(), QString("2000 N"));  // what both kinds have is kept
        type(find<QLineEdit>("dutySecondZ"), "7 N*m");
        type(find<QLineEdit>("dutyThirdX"), "1/2 in");
        find<QCheckBox>("dutyFourthYes")->setChecked(true);
        click("applyDuty");
        const Load l = part().loadCases[1].loads[0];
        QVERIFY(l.kind == Load::Kind::remoteForce && l.rigid);
        QCOMPARE(l.force[0], 2000.0);
        QVERIFY(std::abs(l.moment[2] - 7000) < 1e-9 && std::abs(l.point[0] - 12.7) < 1e-9);
        select("pull", "remote force");
        QCOMPARE(find<QLineEdit>("dutySecondZ")->text(), QString("7 N*m"));
        QVERIFY(find<QCheckBox>("dutyFourthYes")->isVisible() && find<QCheckBox>("dutyFourthYes")->isChecked());
    }
    void whatIsWrongIsSaidBesideTheForm() {
        openDuty();
        select("pull", "force");
        auto* error = find<QLabel>("dutyError");
        find<QLineEdit>("dutyFirstX")->setText("12 kg");
        click("applyDuty");
        QVERIFY(error->isVisible() && error->text().contains("Force"));
        QCOMPARE(part().loadCases[1].loads[0].force[0], 2000.0);  // nothing is lost
        find<QLineEdit>("dutyFirstX")->setText("100 N");
        choose("dutyFace", 1);  // a boss has no side
        click("applyDuty");
        QVERIFY2(error->isVisible() && error->text().contains("face"), qPrintable(error->text()));
    }
    void casesSupportsAndCombinationsAreAdded() {
        openDuty();
        click("addCase");
        QCOMPARE(part().loadCases.size(), std::size_t(3));
        select("Case 1", "load case");
        type(find<QLineEdit>("dutyName"), "gusts");
        type(find<QLineEdit>("caseFactor"), "1.2");
        find<QComboBox>("caseUse")->setCurrentIndex(1);
        click("applyDuty");
        QCOMPARE(part().loadCases[2].name, std::string("gusts"));
        QCOMPARE(part().loadCases[2].factor, 1.2);
        QVERIFY(part().loadCases[2].use == LoadCase::Use::combinationsOnly);
        click("addCombination");
        select("Combination 1", "combination");
        type(find<QLineEdit>("combinationSum"), "1.35 down + 1.5 gusts");
        click("applyDuty");
        QCOMPARE(part().combinations[0].terms.size(), std::size_t(2));
        find<QLineEdit>("combinationSum")->setText("2 storms");
        click("applyDuty");
        QVERIFY(find<QLabel>("dutyError")->text().contains("one of the cases"));
        click("addSupport");
        QCOMPARE(part().supports.size(), std::size_t(2));
        auto* t = find<QTableWidget>("dutyTable");
        t->setCurrentCell(t->rowCount() - 1, 0);
        choose("dutyKind", static_cast<int>(Support::Kind::cylindrical));
        auto* held = find<QListWidget>("dutyHeld");
        QCOMPARE(held->count(), 3);
        held->item(2)->setCheckState(Qt::Unchecked);
        click("applyDuty");
        QVERIFY(part().supports[1].kind == Support::Kind::cylindrical && !part().supports[1].held[2]);
        // a set of supports, and a load case that is held by it
        t->setCurrentCell(t->rowCount() - 1, 0);
        auto* set = find<QComboBox>("dutySet");
        set->setFocus();
        set->lineEdit()->selectAll();
        QTest::keyClicks(set->lineEdit(), "crane");
        click("applyDuty");
        QCOMPARE(part().supports[1].set, std::string("crane"));
        select("pull", "load case");
        QVERIFY(set->findText("crane") > 0);
        set->setCurrentText("rope");
        click("applyDuty");
        QVERIFY(find<QLabel>("dutyError")->text().contains("crane"));
        QVERIFY(part().loadCases[1].supportSet.empty());
        set->setCurrentIndex(set->findText("crane"));
        click("applyDuty");
        QCOMPARE(part().loadCases[1].supportSet, std::string("crane"));
        w_->session().undoStack().undo();
        w_->session().undoStack().undo();
        QVERIFY(part().supports[1].set.empty());
        t->setCurrentCell(t->rowCount() - 1, 0);
        click("removeDuty");
        QCOMPARE(part().supports.size(), std::size_t(1));
        select("gusts", "load case");
        click("removeDuty");  // a combination uses it
        QVERIFY(find<QLabel>("dutyError")->text().contains("combination"));
        QCOMPARE(part().loadCases.size(), std::size_t(3));
    }
    void loadsComeFromATable() {
        const QString path = dir_.filePath("loads.csv");
        std::ofstream(path.toStdString()) << "case,interfaces,face,fx [kN]\npull,eye,bore,2.5\nwind,eye,bore,0.1\n";
        openDuty();
        QStringList seen;
        QTimer::singleShot(200, this, [&] {
            auto* dialog = w_->findChild<QDialog*>("importPreview");
            if (!dialog) return;
            auto* t = dialog->findChild<QTableWidget*>("importTable");
            for (int r = 0; r < t->rowCount(); ++r) seen << t->item(r, 0)->text() + ": " + t->item(r, 1)->text();
            QTest::mouseClick(dialog->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok), Qt::LeftButton);
        });
        w_->tools().duty().importTable(path);
        QCOMPARE(seen, (QStringList{"pull: loads replaced", "wind: new case", "down: not in the table: stays"}));
        QCOMPARE(part().loadCases.size(), std::size_t(3));
        QCOMPARE(part().loadCases[1].loads[0].force[0], 2500.0);
        QApplication::setActiveWindow(w_.get());
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(part().loadCases.size(), std::size_t(2));
        std::ofstream(path.toStdString()) << "case,interfaces,face,fx\npull,nose,bore,1\n";
        w_->tools().duty().importTable(path);
        QVERIFY(find<QLabel>("error")->isVisible() && find<QLabel>("error")->text().contains("line 2"));
    }
    /// A material of one's own is typed with units, refused where it cannot be, kept with the part, and undone.
    void ownMaterialIsTyped() {
        w_->dossier().openCard(Stage::duty);
        click("ownMaterial");
        auto* dialog = w_->findChild<QDialog*>("materialDialog");
        QVERIFY(dialog && dialog->isVisible());
        auto field = [&](const char* name) { return dialog->findChild<QLineEdit*>(name); };
        auto* use = dialog->findChild<QPushButton*>("acceptMaterial");
        auto* error = dialog->findChild<QLabel*>("materialError");
        auto* from = dialog->findChild<QComboBox*>("materialFrom");
        QCOMPARE(field("materialName")->text(), QString("made-up steel"));
        const int titanium = from->findText("Ti-6Al-4V", Qt::MatchStartsWith);
        from->setCurrentIndex(titanium);
        emit from->activated(titanium);
        type(field("materialName"), "our bronze");
        type(field("materialYoungs"), "16 foo");
        QVERIFY(error->isVisible());  // no such unit
        type(field("materialYoungs"), "110 GPa");
        type(field("materialDensity"), "8.8 g/cm^3");
        type(field("materialYield"), "30 ksi");
        field("materialSource")->clear();
        QTest::mouseClick(use, Qt::LeftButton);
        QVERIFY(dialog->isVisible() && error->text().contains("where the strength comes from"));
        type(field("materialSource"), "minimum, own tests");
        QTest::mouseClick(use, Qt::LeftButton);
        const elastic::Material& m = part().material;
        QCOMPARE(m.name, std::string("our bronze"));
        QVERIFY(std::abs(m.youngsModulus - 110000) < 1e-6 && std::abs(m.density - 8.8e-6) < 1e-15);
        QVERIFY(std::abs(m.yieldStrength - 206.8427) < 1e-3);
        QCOMPARE(part().optimisedWith, std::string("made-up steel"));
        QCOMPARE(part().ownMaterials.size(), std::size_t(1));
        w_->session().undoStack().undo();
        QCOMPARE(part().material.name, std::string("made-up steel"));
        QVERIFY(part().ownMaterials.empty());
    }
    /// Numbers that only the variant has stand beside the part's; one click gives them up, also those that lost what
    /// they belong to and keep the variant from running.
    void ownNumbersAreGivenUp() {
        w_->dossier().openCard(Stage::duty);
        auto* numbers = find<QTableWidget>("ownNumbers");
        QVERIFY(!numbers->isVisible());
        w_->session().edit("Numbers", [](Project& p) {
            auto& n = p.variants[p.open].recipe.numbers;
            setNumber(n, "/interfaces/eye/bore_diameter", 9);
            setNumber(n, "/interfaces/gone/length", 3);
        });
        QVERIFY(numbers->isVisible());
        QCOMPARE(numbers->rowCount(), 2);
        QCOMPARE(numbers->item(0, 1)->text(), QString("9 mm"));
        QCOMPARE(numbers->item(0, 2)->text(), QString("8 mm"));
        QCOMPARE(numbers->item(1, 2)->text(), QString("no such number"));
        QVERIFY(!w_->session().project().partOf(w_->session().recipe()).numberProblem.empty());
        click("dropNumbers");  // the lost one is selected
        QCOMPARE(numbers->rowCount(), 1);
        QVERIFY(w_->session().project().partOf(w_->session().recipe()).numberProblem.empty());
        numbers->selectionModel()->select(numbers->model()->index(0, 0),
                                          QItemSelectionModel::ClearAndSelect | QItemSelectionModel::Rows);
        click("dropNumbers");
        QVERIFY(!numbers->isVisible() && w_->session().recipe().numbers.empty());
        w_->session().undoStack().undo();
        QCOMPARE(numbers->rowCount(), 1);
    }
    void materialsAndReadyList() {
        w_->dossier().openCard(Stage::duty);
        auto* ready = find<QLabel>("ready");
        QVERIFY(ready->text().contains("ready for a check"));
        auto* box = find<QComboBox>("material");
        const int titanium = box->findText("Ti-6Al-4V", Qt::MatchStartsWith);
        QVERIFY(titanium > 0);
        box->setCurrentIndex(titanium);
        emit box->activated(titanium);
        QCOMPARE(part().material.yieldStrength, 828.0);
        QCOMPARE(part().optimisedWith, std::string("made-up steel"));
        openDuty();
        auto* t = find<QTableWidget>("dutyTable");
        t->setCurrentCell(t->rowCount() - 1, 0);
        choose("dutyKind", static_cast<int>(Support::Kind::cylindrical));
        find<QListWidget>("dutyHeld")->item(2)->setCheckState(Qt::Unchecked);
        click("applyDuty");
        QVERIFY2(ready->text().contains("rotation about"), qPrintable(ready->text()));
    }
    void levelsLocalSizesAndQuality() {
        w_->dossier().openCard(Stage::check);
        choose("level", 2);
        QVERIFY(w_->session().recipe().check.level == Level::converged);
        type(find<QLineEdit>("elementSize"), "4.5 mm");
        type(find<QLineEdit>("convergenceShare"), "8 %");
        w_->session().edit("Passes", [](Project& p) { p.variants[p.open].recipe.check.passes = 3; });
        click("runCheck");
        QVERIFY(settle());
        const auto check = w_->session().lastKnown().check;
        QVERIFY(check && check->passes.size() >= 2);
        auto* chart = find<Chart>("convergenceChart");
        QVERIFY(chart->isVisible());
        QCOMPARE(chart->pointCount(), static_cast<int>(check->passes.size()));
        click("showMesh");
        QVERIFY(w_->viewBar().options().show == report::Show::mesh);
        w_->openTable(Table::worstElements);
        auto* worst = find<QTableWidget>("drawerQuality");
        QCOMPARE(worst->rowCount(), 50);
        worst->setCurrentCell(2, 0);
        choose("level", 1);
        QVERIFY(w_->session().freshness(Stage::check) != Freshness::fresh);
        const QString before = find<QLabel>("expected")->text();
        type(find<QLineEdit>("localSize"), "1.5 mm");
        click("addLocalSize");
        QCOMPARE(w_->session().recipe().check.localSizes.size(), std::size_t(1));
        QVERIFY(find<QLabel>("expected")->text() != before);
        emit find<QLabel>("localSizes")->linkActivated("0");
        QVERIFY(w_->session().recipe().check.localSizes.empty());
        // the multigrid solver by force: its residuals are shown
        choose("solver", 2);
        click("runCheck");
        QVERIFY(settle());
        QVERIFY(w_->session().lastKnown().check->solver.find("multigrid") != std::string::npos);
        QVERIFY(find<Chart>("residualChart")->pointCount() > 5);
    }
    void cancelLosesNothing() {
        runAll();
        const auto old = w_->session().lastKnown().check;
        type(find<QLineEdit>("elementSize"), "1.6 mm");
        choose("solver", 2);
        w_->session().run(Stage::check);
        QElapsedTimer clock;
        QVERIFY(QTest::qWaitFor([&] { return find<Chart>("residualChart")->pointCount() > 1; }, 60000));
        clock.start();
        click("cancel");
        QVERIFY(settle());
        QVERIFY2(clock.elapsed() < 5000, qPrintable(QString::number(clock.elapsed())));
        QCOMPARE(w_->session().lastKnown().check.get(), old.get());
        QVERIFY(w_->session().log().join("\n").contains("cancelled"));
    }
    void quantitiesUnitsAndReadings() {
        runAll();
        w_->dossier().openCard(Stage::check);
        choose("show", find<QComboBox>("show")->findText("results"));
        auto* quantity = find<QComboBox>("quantity");
        for (int k = 0; k < quantity->count(); ++k) {
            if (!quantity->itemData(k).isValid()) continue;  // a line between groups
            choose("quantity", k);
        }
        choose("quantity", quantity->findText("von Mises"));
        choose("loadCase", 2);
        choose("unit", 2);
        QCOMPARE(w_->viewBar().options().unit, std::string("ksi"));
        w_->view().fit();
        const QPoint middle(w_->view().width() / 2, w_->view().height() / 2);
        QTest::mouseMove(&w_->view(), middle);
        QTRY_VERIFY2(w_->view().readingText().contains("ksi"), qPrintable(w_->view().readingText()));
        QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, middle);
        QCOMPARE(w_->view().pinnedCount(), 1);
        w_->openTable(Table::readings);
        auto* t = find<QTableWidget>("drawerReadings");
        QCOMPARE(t->rowCount(), 1);
        QCOMPARE(t->columnCount(), 4 + 3);  // the worst and two cases
        QVERIFY(t->horizontalHeaderItem(6)->text().contains("pull, ksi"));
        const double ksi = t->item(0, 6)->text().toDouble();
        choose("unit", 0);
        QVERIFY(std::abs(t->item(0, 6)->text().toDouble() / ksi - 6.894757) < 0.02);
        find<QLineEdit>("only")->setText("20");
        find<QLineEdit>("only")->setModified(true);
        emit find<QLineEdit>("only")->editingFinished();
        QCOMPARE(w_->viewBar().options().only.value_or(0), 20.0);
        for (const char* a : {"meshLines", "bothFlags", "undeformed", "vectors2", "vectors1"})
            w_->findChild<QAction*>(a)->trigger();
        QVERIFY(w_->viewBar().options().vectors == report::SceneOptions::Vectors::displacement);
    }
    void animationPicturesAndViews() {
        runAll();
        choose("show", find<QComboBox>("show")->findText("results"));
        choose("loadCase", 1);
        click("animate");
        const QImage first = w_->view().grab().toImage();
        QTRY_VERIFY(w_->view().grab().toImage() != first);
        click("animate");
        QVERIFY(!w_->viewBar().isAnimated());
        const QString png = dir_.filePath("view.png"), webp = dir_.filePath("swing.webp");
        w_->savePicture(png, 640, 400, true);
        const QImage image(png);
        QCOMPARE(image.size(), QSize(640, 400));
        QCOMPARE(qAlpha(image.pixel(5, 395)), 0);
        int opaque = 0;
        for (int y = 0; y < 400; y += 5)
            for (int x = 0; x < 640; x += 5) opaque += qAlpha(image.pixel(x, y)) > 250;
        QVERIFY(opaque > 500);
        w_->saveAnimation(webp, 320, 200);
        QVERIFY(settle());
        QFile file(webp);
        QVERIFY(file.open(QIODevice::ReadOnly));
        const QByteArray bytes = file.readAll();
        QVERIFY(bytes.startsWith("RIFF") && bytes.mid(8, 4) == "WEBP" && bytes.contains("ANIM"));
        QVERIFY(bytes.count("ANMF") >= 8);
        w_->keepView("from the side");
        QCOMPARE(w_->session().project().views.size(), std::size_t(1));
        const double height = w_->session().project().views[0].height;
        w_->session().saveProject(dir_.filePath("x.escultura"));
        QVERIFY(settle());
        w_->open(dir_.filePath("x.escultura"));
        QVERIFY(settle());
        QCOMPARE(w_->session().project().views[0].height, height);
    }
};

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    theme::apply(application);
    TestDutyWindow test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_duty_window.moc"

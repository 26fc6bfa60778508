// A designed bracket from its STEP file to a signed release, in the real window by mouse and keyboard: its faces picked
// and loaded, its density taken from a file, the solid rebuilt, checked, tested and signed; the faces of the released
// STEP file are those of the bracket, and the command line's way finds the same figures.
#include <QListWidget>
#include <QTableWidget>
#include <QtTest>
#include <map>

#include "exchange/step_faces.hpp"
#include "exchange/writers.hpp"
#include "judge/findings.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "stages/kept_faces.hpp"
#include "step_bracket.hpp"
#include "theme/theme.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using made_up::StepBracket;
using project::Stage;

class TestBracketStoryWindow : public QObject, WindowDriver {
    Q_OBJECT
    StepBracket bracket_;
    Session& session() { return w_->session(); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) {
        QApplication::setActiveWindow(w_.get());  // dialogs were open, and a bare X server gives nothing back
        QTest::keyClick(w_.get(), k, m);
    }

    /// Clicks places of the original until the words about them say what is meant, and makes the interface.
    /// @param from  where the view looks along
    void keep(const char* name, const std::vector<Vec3>& places, const Vec3& from, const char* depth,
              const char* button, int faces) {
        click("pickFace");
        QVERIFY(settle());
        w_->view().look(from);
        w_->view().fit();
        for (const Vec3& place : places)
            QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, w_->view().placeOf(place).toPoint());
        // a plane and a bore are proposed as what they are: here the faces themselves are meant
        choose("newInterfaceKind", static_cast<int>(duty::Interface::Kind::faces));
        if (button) click(button);
        const QString words = find<QLabel>("pickedWords")->text();
        QVERIFY2(words.startsWith(QString("%1 face").arg(faces)), qPrintable(QString(name) + ": " + words));
        type(find<QLineEdit>("newInterfaceName"), name);
        type(find<QLineEdit>("newInterfaceLength"), depth);
        click("createInterface");
        QVERIFY(settle());
        const duty::Interface* made = session().part().findInterface(name);
        QVERIFY2(made && static_cast<int>(made->places.size()) == faces, name);
    }
    /// Sets the form of a load or a support that was just added.
    void actsOn(const char* interface, int kind) {
        auto* on = find<QListWidget>("dutyInterfaces");
        for (int r = 0; r < on->count(); ++r)
            on->item(r)->setCheckState(on->item(r)->text() == interface ? Qt::Checked : Qt::Unchecked);
        choose("dutyKind", kind);
        choose("dutyFace", find<QComboBox>("dutyFace")->findText("face"));
    }
    void apply() {
        click("applyDuty");
        QVERIFY2(!find<QLabel>("dutyError")->isVisible(), qPrintable(find<QLabel>("dutyError")->text()));
    }
    void begin() {
        emptyWindow();
        w_->open(dir_.filePath("bracket.step"));  // as by dropping it on the start page
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("bodyDialog");
        QVERIFY(dialog);
        type(dialog->findChild<QLineEdit*>("bodyName"), "Bracket");
        if (dialog->isVisible()) QTest::mouseClick(dialog->findChild<QPushButton*>("acceptBody"), Qt::LeftButton);
        QVERIFY(settle());
        QVERIFY(QTest::qWaitFor([&] { return session().project().original(session().recipe()) != nullptr; }, 20000));
        w_->dossier().openCard(Stage::duty);
        auto* material = find<QComboBox>("material");
        const int steel = material->findText("S355J2", Qt::MatchContains);
        QVERIFY(steel >= 0);
        choose("material", steel);
        QVERIFY(settle());
        QVERIFY(session().part().material.yieldStrength == 355);
    }
    void pickFaces() {
        QTest::qWait(200);
        key(Qt::Key_I, Qt::ControlModifier);
        QTRY_VERIFY_WITH_TIMEOUT(find<QPushButton>("pickFace")->isVisible(), 20000);
        keep("flange", {bracket_.out({35, 30, 0})}, bracket_.turn * Vec3(0.2, 0.3, 1), "4", nullptr, 1);
        // the far wall of a hole, seen steeply from above
        keep("bolts", {bracket_.out({8, 8 + 0.5 * StepBracket::bolt, 6.5})}, bracket_.turn * Vec3(0.02, 0.35, -1), "3",
             "keepSameRadius", 4);
        keep("slot", {bracket_.inLug({0, -4, 25})}, bracket_.turn * Vec3(0.1, 0.8, -0.6), "4", "keepNeighbours", 4);
        keep("seat", {bracket_.seat()}, bracket_.turn * Vec3(-0.3, 0.4, -1), "4", nullptr, 1);
    }
    void load() {
        w_->dossier().openCard(Stage::duty);
        click("editLoads");
        click("addSupport");
        actsOn("bolts", static_cast<int>(duty::Support::Kind::fixed));
        apply();
        click("addSupport");
        actsOn("flange", static_cast<int>(duty::Support::Kind::sliding));
        apply();
        click("addCase");
        auto* rows = find<QTableWidget>("dutyTable");
        auto chooseRow = [&](const QString& kind, int nth) {
            for (int r = 0; r < rows->rowCount(); ++r)
                if (rows->item(r, 1)->text() == kind && nth-- == 0) return rows->setCurrentCell(r, 0);
            QFAIL(qPrintable(kind));
        };
        chooseRow("force", 0);
        actsOn("slot", static_cast<int>(duty::Load::Kind::force));
        type(find<QLineEdit>("dutyFirstX"), "60 N");
        type(find<QLineEdit>("dutyFirstY"), "-0.04 kN");
        type(find<QLineEdit>("dutyFirstZ"), "100 N");
        apply();
        click("addCase");
        chooseRow("force", 1);
        actsOn("seat", static_cast<int>(duty::Load::Kind::pressure));
        type(find<QLineEdit>("dutyFirstX"), "1.5 MPa");
        apply();
        const auto& p = session().part();
        QCOMPARE(p.supports.size(), std::size_t(2));
        QCOMPARE(p.loadCases.size(), std::size_t(2));
        QVERIFY(p.loadCases[0].loads[0].force == Vec3(60, -40, 100));
        QVERIFY(p.loadCases[1].loads[0].pressure == 1.5 && p.loadCases[1].loads[0].on.face == "face");
        key(Qt::Key_7);
        click("editRequirements");
        choose("requirementKind", find<QComboBox>("requirementKind")->findText("safety factor"));
        type(find<QLineEdit>("requirementLimit"), "1.2");
        type(find<QLineEdit>("requirementSource"), "made up, clause 3");
        click("addRequirement");
        QVERIFY(settle());
        QCOMPARE(session().part().requirements.size(), std::size_t(1));
    }
    /// Struts of density from the flange to both sides of the slot and to the seat, from a file.
    void takeTheField() {
        field::DensityField f;
        f.spacing = Vec3::Constant(3);
        f.origin = Vec3(-1.1, -1.1, -1.1);
        f.cells = {25, 18, 21};
        auto from = [](const Vec3& p, const Vec3& a, const Vec3& b) {
            const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
            return (p - a - t * (b - a)).norm();
        };
        const Vec3 left = bracket_.inLug({-10, 0, 34}), right = bracket_.inLug({10, 0, 34});
        for (int z = 0; z < f.cells[2]; ++z)
            for (int y = 0; y < f.cells[1]; ++y)
                for (int x = 0; x < f.cells[0]; ++x) {
                    const Vec3 p = f.origin + 3 * Vec3(x + 0.5, y + 0.5, z + 0.5);
                    const double d = std::min({from(p, Vec3(33, 37, 4), left), from(p, Vec3(53, 37, 4), right),
                                               from(p, Vec3(13, 25, 4), Vec3(13, 25, 14))});
                    f.density.push_back(d < 7 ? 1.F : 0.02F);
                }
        const QString path = dir_.filePath("struts.vti");
        exchange::writeField(path.toStdString(), f);
        w_->addField(path);
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("fieldDialog");
        QVERIFY(dialog);
        QTest::mouseClick(dialog->findChild<QPushButton*>("acceptField"), Qt::LeftButton);
        QVERIFY(settle());
        QVERIFY2(session().project().field(), qPrintable(find<QLabel>("error")->text()));
    }
    void checkTheSolid() {
        w_->dossier().openCard(Stage::check);
        choose("checkedBody", 2);
        type(find<QLineEdit>("elementSize"), "2.2 mm");
        QVERIFY(settle());
        QTRY_VERIFY_WITH_TIMEOUT(find<QPushButton>("runCheck")->isEnabled(), 20000);
        click("runCheck");
        QVERIFY(settle());
        QVERIFY2(session().freshness(Stage::findings) == Freshness::fresh, qPrintable(find<QLabel>("error")->text()));
        const auto solid = session().project().rebuild(session().recipe());
        QVERIFY(solid);
        QVERIFY2(solid->problems.empty(), solid->problems.empty() ? "" : solid->problems[0].c_str());
        const auto check = session().project().check(session().recipe());
        for (const auto& c : check->cases) QVERIFY2(c.appliedAsMeant, c.name.c_str());
        QCOMPARE(check->quality.failed, 0);
    }
    void sign() {
        key(Qt::Key_6);
        if (find<QPushButton>("testAll")->isEnabled()) {
            click("testAll");
            QVERIFY(settle());
        }
        auto* list = find<QTableWidget>("findings");
        if (list->rowCount() > 0) list->setCurrentCell(0, 0);
        for (int r = 0; r < list->rowCount(); ++r) {
            find<QLineEdit>("dispositionReason")->setText("looked at, class agreed");
            find<QLineEdit>("dispositionName")->setText("A. Tester");
            QTest::keyClick(find<QLineEdit>("dispositionName"), Qt::Key_Return);
        }
        key(Qt::Key_7);
        QVERIFY2(find<QPushButton>("writeRelease")->isEnabled(), qPrintable(find<QLabel>("blockers")->text()));
    }
    /// The faces of a STEP file that lie on the kept ones, by area.
    void compareFaces(const std::string& step) {
        const auto kept = stages::keptFacesOf(session().part());
        std::vector<double> area(kept->patches().size(), 0);
        for (const auto& f : exchange::readStepFaces(step)) {
            const auto n = kept->nearest(f.patch.places.front(), 1e-4);
            if (n.patch < 0 || n.across > 1e-3) continue;
            const auto& own = kept->patches()[static_cast<std::size_t>(n.patch)];
            if (f.patch.surface->gradient(n.foot).dot(own.surface->gradient(n.foot)) < 1 - 1e-9) continue;
            QVERIFY(f.patch.surface->form().kind == own.surface->form().kind);
            for (const auto& s : f.patch.border) QVERIFY(std::abs(own.surface->distance(s.a)) < 1e-6);
            area[static_cast<std::size_t>(n.patch)] += f.patch.area;
        }
        for (std::size_t k = 0; k < area.size(); ++k)
            QVERIFY2(std::abs(area[k] / kept->patches()[k].area - 1) < 2e-3, qPrintable(QString::number(k)));
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void cleanup() { closeWindow(); }

    void fromItsFileToARelease() {
        bracket_.write(dir_.filePath("bracket.step").toStdString());
        begin();
        pickFaces();
        load();
        takeTheField();
        checkTheSolid();
        sign();
        const QString folder = dir_.filePath("release");
        w_->releaseTo(folder, judge::SignOff{"A. Tester", "engineer", "2026-01-01", ""});
        QVERIFY(settle());
        QCOMPARE(session().project().releases.size(), std::size_t(1));
        compareFaces((folder + "/solid.step").toStdString());
        // everything made again from the folder's inputs, as the command line does it: the same figures
        Progress progress;
        for (const auto& item : report::verifyRelease(folder.toStdString(), true, progress))
            QVERIFY2(item.holds, (item.what + ": " + item.expected + " / " + item.found).c_str());
        const auto check = session().project().check(session().recipe());
        qInfo("solid of %d faces, %.1f cm3, safety factor %.3f",
              session().project().rebuild(session().recipe())->solid.solid.faces,
              1e-3 * session().project().rebuild(session().recipe())->solid.solid.volume, check->minSafetyFactor);
    }
};

QTEST_MAIN(TestBracketStoryWindow)
#include "test_bracket_story_window.moc"

// A part that begins with a body: its field made in the window, seen growing, stopped, out of date with the duty.
#include <QComboBox>
#include <QLabel>
#include <QTableWidget>
#include <QtTest>

#include "base/error.hpp"
#include "box_mesh.hpp"
#include "chart.hpp"
#include "duty/part_edit.hpp"
#include "exchange/writers.hpp"
#include "mesh/tet_mesh.hpp"
#include "stages/part_shape.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;

namespace {

/// A block of 60 x 24 x 20 in the numbers of its file.
std::string writeBlock(const QString& path) {
    surface::TriMesh m;
    for (int c = 0; c < 8; ++c) m.position.emplace_back(c & 1 ? 60 : 0, c & 2 ? 24 : 0, c & 4 ? 20 : 0);
    const int sides[6][4] = {{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}};
    for (const auto& s : sides) {
        m.triangle.push_back({s[0], s[1], s[2]});
        m.triangle.push_back({s[0], s[2], s[3]});
    }
    exchange::writeStl(path.toStdString(), m, "block");
    return path.toStdString();
}

}  // namespace

class TestMakingWindow : public QObject, public WindowDriver {
    Q_OBJECT
  private:
    /// Two bolts in one side, a pad on the other.
    void addDuty() {
        auto& session = w_->session();
        auto part = [&]() -> const duty::Part& { return session.project().part; };
        session.editPart("Duty", [&](const std::string& text) {
            auto j = nlohmann::ordered_json::parse(text);
            for (int b = 0; b < 2; ++b)
                j["interfaces"].push_back({{"name", b ? "bolt b" : "bolt a"},
                                           {"kind", "boss"},
                                           {"origin", {0, b ? 18 : 6, 10}},
                                           {"axis", {1, 0, 0}},
                                           {"length", 8},
                                           {"bore_diameter", 4},
                                           {"ring_diameter", 9},
                                           {"end", {{"kind", "blind"}}}});
            j["interfaces"].push_back({{"name", "tip"},
                                       {"kind", "pad"},
                                       {"origin", {60, 12, 10}},
                                       {"axis", {-1, 0, 0}},
                                       {"length", 6},
                                       {"ring_diameter", 12}});
            j["supports"].push_back({{"kind", "fixed"}, {"interfaces", {"bolt a", "bolt b"}}, {"face", "start"}});
            j["load_cases"].push_back(
                {{"name", "lift"},
                 {"loads", {{{"kind", "force"}, {"interfaces", {"tip"}}, {"face", "start"}, {"force", {0, 0, 900}}}}}});
            return j.dump();
        });
        QCOMPARE(part().interfaces.size(), 3U);
    }
    /// As soon as nothing else runs, such as reading the body for the view.
    void optimise() {
        QVERIFY(QTest::qWaitFor([&] { return find<QPushButton>("optimise")->isEnabled(); }, 20000));
        click("optimise");
    }
    void beginWithBlock() {
        emptyWindow();
        const QString path = dir_.filePath("block.stl");
        writeBlock(path);
        w_->open(path);  // as by dropping it
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("bodyDialog");
        QVERIFY(dialog);
        auto* unit = dialog->findChild<QComboBox*>("bodyUnit");
        auto* size = dialog->findChild<QLabel*>("bodySize");
        QVERIFY2(size->text().startsWith("60.0 × 24.0 × 20.0 mm, 28.8 cm³"), qPrintable(size->text()));
        unit->setCurrentText("in");
        QVERIFY2(size->text().startsWith("1524 × 610 × 508 mm"), qPrintable(size->text()));
        unit->setCurrentText("mm");
        type(dialog->findChild<QLineEdit*>("bodyName"), "Bracket");
        if (dialog->isVisible()) QTest::mouseClick(dialog->findChild<QPushButton*>("acceptBody"), Qt::LeftButton);
        QVERIFY(settle());
        QVERIFY(w_->session().hasProject());
        QCOMPARE(w_->session().part().name, std::string("Bracket"));
    }
  private slots:
    void cleanup() { closeWindow(); }
    /// A file of three bodies: the part, a neighbour that it keeps clear of, one that is left out.
    void fromAFileOfSeveralBodies() {
        emptyWindow();
        surface::TriMesh all;
        for (const auto& [low, high] :
             {std::pair<Vec3, Vec3>{{0, 0, 0}, {10, 10, 10}}, {{20, 0, 0}, {80, 24, 20}}, {{40, -8, 5}, {50, 4, 15}}}) {
            const surface::TriMesh box = made_up::boxMesh(low, high);
            const auto first = static_cast<std::int32_t>(all.position.size());
            all.position.insert(all.position.end(), box.position.begin(), box.position.end());
            for (const Triangle& t : box.triangle) all.triangle.push_back({first + t[0], first + t[1], first + t[2]});
        }
        exchange::writeStl(dir_.filePath("assembly.stl").toStdString(), all, "assembly");
        w_->open(dir_.filePath("assembly.stl"));
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("bodyDialog");
        QVERIFY(dialog);
        auto* roles = dialog->findChild<QTableWidget*>("bodyRoles");
        QCOMPARE(roles->rowCount(), 3);
        // the largest is proposed as the part
        QCOMPARE(dialog->findChild<QComboBox*>("bodyRole2")->currentIndex(), 0);
        QCOMPARE(dialog->findChild<QComboBox*>("bodyRole3")->currentIndex(), 1);
        QVERIFY2(dialog->findChild<QLabel*>("bodySize")->text().startsWith("60.0 × 24.0 × 20.0 mm, 28.8 cm³"),
                 qPrintable(dialog->findChild<QLabel*>("bodySize")->text()));
        auto* two = dialog->findChild<QComboBox*>("bodyRole2");
        two->setCurrentIndex(2);
        QTest::mouseClick(dialog->findChild<QPushButton*>("acceptBody"), Qt::LeftButton);
        QVERIFY(dialog->isVisible() && dialog->findChild<QLabel*>("bodyWarning")->text().contains("at least one"));
        two->setCurrentIndex(0);
        dialog->findChild<QComboBox*>("bodyRole1")->setCurrentIndex(2);
        type(dialog->findChild<QLineEdit*>("bodyClearance"), "2 mm");
        if (dialog->isVisible()) QTest::mouseClick(dialog->findChild<QPushButton*>("acceptBody"), Qt::LeftButton);
        QVERIFY(settle());
        const duty::Part& part = w_->session().part();
        QCOMPARE(part.designBody->bodies, std::vector<std::string>{"body 2"});
        QCOMPARE(part.original->bodies, std::vector<std::string>{"body 2"});
        QCOMPARE(part.keepOuts.size(), std::size_t(1));
        QVERIFY(part.keepOuts[0].name == "body 3" && part.keepOuts[0].body.offset == 2);
        // where the neighbour stands no cell is free, nor within the clearance
        const auto regions = stages::loadRegions(part, Box3{Vec3::Zero(), Vec3::Ones()});
        QVERIFY((regions.designSpace.low - Vec3(20, 0, 0)).norm() < 1e-6);
        QVERIFY((regions.designSpace.high - Vec3(80, 24, 20)).norm() < 1e-6);
        const auto& neighbour = *regions.keepOutBodies.at(0);
        QVERIFY(neighbour.value({45, 5.9, 10}) < 0 && neighbour.value({45, 6.1, 10}) > 0);
    }
    void fromABodyToASurface() {
        beginWithBlock();
        auto& session = w_->session();
        QVERIFY(session.part().fields.empty() && !session.project().field());
        QVERIFY(!find<QLabel>("error")->isVisible());
        QVERIFY(QTest::qWaitFor([&] { return session.project().original(session.recipe()) != nullptr; }, 20000));
        QVERIFY(w_->view().thumbnail(60, 40).pixelColor(30, 20) != w_->view().thumbnail(60, 40).pixelColor(1, 1));
        // every card and every show can be opened without a field
        for (int s = 0; s < project::stageCount; ++s) {
            w_->dossier().openCard(static_cast<project::Stage>(s));
            QVERIFY(settle());
        }
        w_->dossier().openCard(project::Stage::field);
        QVERIFY2(find<QLabel>("makingForecast")->text().contains("cells of 0.67"),
                 qPrintable(find<QLabel>("makingForecast")->text()));
        // what is missing is told where it is asked for
        optimise();
        QVERIFY(settle());
        QVERIFY(find<QLabel>("error")->isVisible() && find<QLabel>("error")->text().contains("support"));
        addDuty();
        w_->dossier().openCard(project::Stage::field);
        type(find<QLineEdit>("makingShare"), "35");
        QVERIFY(!find<QLineEdit>("makingCell")->isVisible());
        find<QPushButton>("makingMore")->click();
        type(find<QLineEdit>("makingCell"), "1.5 mm");
        type(find<QLineEdit>("makingSteps"), "40");
        QCOMPARE(session.part().optimisation.share, 0.35);
        QVERIFY2(find<QLabel>("makingForecast")->text().startsWith("40 × 16 × 14 cells of 1.50 mm"),
                 qPrintable(find<QLabel>("makingForecast")->text()));
        type(find<QLineEdit>("makingShare"), "135");
        QCOMPARE(session.part().optimisation.share, 0.35);
        type(find<QLineEdit>("makingShare"), "35");
        int grown = 0;
        connect(&session, &Session::grew, this, [&] { grown += session.growing() != nullptr; });
        optimise();
        QVERIFY(session.isOptimising() && find<QPushButton>("stopAndKeep")->isVisible());
        QVERIFY(!find<QLineEdit>("makingShare")->isVisible());
        QVERIFY(settle());
        QVERIFY(!session.isOptimising() && !find<QPushButton>("stopAndKeep")->isVisible());
        QVERIFY(grown > 0);
        const auto made = session.project().made(session.recipe());
        QVERIFY(made && std::abs(made->share - 0.35) < 0.002);
        QCOMPARE(find<Chart>("makingCurve")->pointCount(), static_cast<int>(made->steps.size()));
        QVERIFY(find<QLabel>("makingState")->text().contains("35.0 % of the design space"));
        QVERIFY(!find<QPushButton>("optimise")->isEnabled());  // it is what is asked for
        QVERIFY(find<QWidget>("thresholdEdit")->isVisible());
        // another load: the field stays and says that it was made for others; undo brings it back
        const auto field = session.project().field();
        session.editPart("Load", [&](const std::string& text) {
            auto j = nlohmann::ordered_json::parse(text);
            j["load_cases"][0]["loads"][0]["force"] = {0, 400, 900};
            return j.dump();
        });
        QVERIFY(settle());
        QCOMPARE(session.project().field(), field);
        QVERIFY(find<QLabel>("makingState")->text().contains("The duty has changed since"));
        QCOMPARE(session.freshness(project::Stage::field), Freshness::outOfDate);
        QVERIFY(find<QPushButton>("optimise")->isEnabled());
        session.undoStack().undo();
        QCOMPARE(session.freshness(project::Stage::field), Freshness::fresh);
        w_->dossier().openCard(project::Stage::field);
        click("buildFromField");
        QVERIFY(settle());
        const auto surface = session.lastKnown().surface;
        QVERIFY(surface);
        QVERIFY2(surface->measures.watertight && surface->measures.pieces == 1,
                 qPrintable(QString("%1 %2").arg(surface->measures.watertight).arg(surface->measures.pieces)));
        // undone as a step of the history, and done again without computing
        while (session.project().made(session.recipe())) session.undoStack().undo();
        QVERIFY(settle());
        QVERIFY(!session.project().field());
        session.undoStack().redo();
        QVERIFY(settle());
        QVERIFY(session.project().made(session.recipe()) == made && session.project().field());
    }
    void stoppedAndCancelled() {
        beginWithBlock();
        addDuty();
        auto& session = w_->session();
        w_->dossier().openCard(project::Stage::field);
        find<QPushButton>("makingMore")->click();
        type(find<QLineEdit>("makingCell"), "1 mm");
        choose("makingAim", 1);
        QCOMPARE(session.part().optimisation.aim, duty::Optimisation::Aim::lightest);
        QVERIFY(find<QLineEdit>("makingFactor")->isVisible() && !find<QLineEdit>("makingShare")->isVisible());
        type(find<QLineEdit>("makingFactor"), "0");  // the last limit cannot be taken away
        QCOMPARE(session.part().optimisation.safetyFactor, 2.0);
        choose("makingAim", 0);
        choose("makingRule", 1);
        QCOMPARE(session.part().optimisation.rules.size(), 1U);
        choose("makingRule", 0);
        optimise();
        QVERIFY(QTest::qWaitFor([&] { return session.growing() != nullptr; }, 60000));
        session.cancel();
        QVERIFY(settle());
        QVERIFY(!session.project().made(session.recipe()) && !session.growing());
        optimise();
        QVERIFY(QTest::qWaitFor([&] { return session.growing() != nullptr; }, 60000));
        click("stopAndKeep");
        QVERIFY(settle());
        const auto made = session.project().made(session.recipe());
        QVERIFY(made && made->steps.size() < 90);
        QVERIFY(find<QLabel>("makingState")->text().contains("Stopped after"));
    }
};

QTEST_MAIN(TestMakingWindow)
#include "test_making_window.moc"

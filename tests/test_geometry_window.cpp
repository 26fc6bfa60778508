// Long because fields, interfaces and maps share one window and its body.
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QPushButton>
#include <fstream>

#include "dossier/threshold_control.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "made_up_brace.hpp"
#include "made_up_part.hpp"
#include "step_bracket.hpp"
#include "surface/extract.hpp"
#include "theme/theme.hpp"
#include "window_driver.hpp"

using namespace escultura;
using namespace escultura::app;
using project::Stage;

/// Fields, interfaces and the surface's maps, driven with mouse and keyboard in the real window.
class TestGeometryWindow : public QObject, public WindowDriver {
    Q_OBJECT

    const duty::Part& part() const { return w_->session().project().part; }
    void showInterfaces() {
        QTest::keyClick(w_.get(), Qt::Key_I, Qt::ControlModifier);
        QTest::qWait(50);
        QCOMPARE(w_->tools().current(), Tool::interfaces);
    }
    /// A block of the lever's size with a bore of 12 mm where the part has no interface.
    std::string writeOriginal() const {
        using shape::Primitive;
        shape::MachinedSolid s(nullptr, {Vec3(-1, -1, -1), Vec3(81, 31, 16)});
        const Vec3 high(80, 30, 15);
        for (int a = 0; a < 3; ++a) {
            s.addInside({Primitive::Kind::plane, Vec3::Zero(), -Vec3::Unit(a)});
            s.addInside({Primitive::Kind::plane, high, Vec3::Unit(a)});
        }
        s.addCut({{Primitive::Kind::cylinder, Vec3(40, 15, 0), Vec3::UnitZ(), 6}});
        Progress progress;
        const std::string path = (dir_.path() + "/original.stl").toStdString();
        exchange::writeStl(path, surface::extractSurface(s, 2, true, progress), "original");
        return path;
    }

  private slots:
    void initTestCase() { theme::apply(*qApp); }
    void init() { openLever(); }
    void cleanup() { closeWindow(); }

    void aTypedShareIsSolvedForAndUndone() {
        w_->dossier().openCard(Stage::field);
        const double before = w_->session().recipe().threshold;
        const auto f = w_->session().project().field();
        const double share = f->keptVolume->volume(0.7) / f->designVolume;
        type(find<QLineEdit>("wantedShare"), QString::number(100 * share - 0.01, 'f', 4));
        QVERIFY(std::abs(f->keptVolume->volume(w_->session().recipe().threshold) / f->designVolume - share) < 0.002);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(w_->session().recipe().threshold, before);
        QVERIFY(find<QLabel>("fieldFigures")->text().contains("Grey share"));
    }

    void keepingThinMembersIsAChoiceThatIsUndone() {
        w_->dossier().openCard(Stage::surface);
        auto* keep = find<QCheckBox>("keepMembers");
        QVERIFY(keep->isChecked());
        scrollTo(keep);
        QTest::mouseClick(keep, Qt::LeftButton, {}, QPoint(8, keep->height() / 2));
        QVERIFY(!w_->session().recipe().keepMembers && !keep->isChecked());
        QVERIFY(w_->session().freshness(Stage::surface) != Freshness::fresh);
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        const auto s = w_->session().lastKnown().surface;
        QVERIFY(s && s->measures.watertight && s->measures.genus == 2);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(w_->session().recipe().keepMembers && keep->isChecked());
    }
    /// A smallest member is typed, the list fills, one member is left out by its box, and all of it is undone.
    void thinMembersAreListedAndDecided() {
        closeWindow();
        openWindow(QString::fromStdString(made_up::writeBrace(dir_.path().toStdString(), true)));
        w_->dossier().openCard(Stage::surface);
        auto* list = find<QTableWidget>("thinMembers");
        type(find<QLineEdit>("smallestMember"), "3 mm");
        QCOMPARE(w_->session().recipe().thin.smallest, 3.0);
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        const auto s = w_->session().lastKnown().surface;
        QVERIFY(s && s->members.size() >= 2);  // the web and the thinnest strut
        QCOMPARE(list->rowCount(), static_cast<int>(s->members.size()));
        QVERIFY(find<QLabel>("thinMemberWords")->text().contains("3.00 mm"));
        auto* choice = qobject_cast<QComboBox*>(list->cellWidget(0, 2));
        QVERIFY(choice && choice->currentText() == "undecided");
        scrollTo(choice);
        choice->setFocus();
        QTest::keyClick(choice, Qt::Key_Down);
        QCOMPARE(w_->session().recipe().thin.decisions.size(), std::size_t(1));
        QVERIFY(w_->session().recipe().thin.decisions[0].fate == duty::MemberFate::keep);
        QVERIFY(w_->session().freshness(Stage::surface) != Freshness::fresh);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(w_->session().recipe().thin.decisions.empty());
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(w_->session().recipe().thin.smallest, 0.0);
        type(find<QLineEdit>("edgeRadius"), "2.5 mm");
        QCOMPARE(w_->session().recipe().edges.radius, 2.5);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QCOMPARE(w_->session().recipe().edges.radius, 1.6 * made_up::braceCell);
    }
    void twoFieldsAreCombinedAndCompared() {
        // a second field: the lever's density scaled, as a table of points
        field::DensityField other = made_up::leverField();
        const std::string path = (dir_.path() + "/other.csv").toStdString();
        std::ofstream out(path);
        out << "x,y,z,density\n";
        for (std::size_t c = 0; c < other.count(); ++c) {
            const Vec3 p = other.centre(c);
            out << p[0] << ',' << p[1] << ',' << p[2] << ',' << 0.5 * other.density[c] << '\n';
        }
        out.close();
        w_->dossier().openCard(Stage::field);
        w_->addField(QString::fromStdString(path));
        QVERIFY(settle());
        auto* dialog = w_->findChild<QDialog*>("fieldDialog");
        QVERIFY(dialog);
        QVERIFY(dialog->findChild<QComboBox*>("fieldArray")->currentText().contains("0 to 0.5"));
        QTest::mouseClick(dialog->findChild<QPushButton*>("acceptField"), Qt::LeftButton);
        QVERIFY(settle());
        QCOMPARE(part().fields.size(), std::size_t(2));
        QCOMPARE(w_->session().recipe().field.which, 1);
        const auto alone = w_->session().project().field();
        QVERIFY(alone && alone->keptVolume->volume(0.6) == 0);  // half the density: nothing that high
        choose("fieldChoice", 2);                               // the maximum of both is the first again
        QVERIFY(settle());
        const auto most = w_->session().project().field();
        QVERIFY(most->field.source.rfind("maximum of", 0) == 0);
        choose("fieldChoice", 3);
        QVERIFY(settle());
        const auto mean = w_->session().project().field();
        for (std::size_t c = 0; c < other.count(); ++c) {
            QVERIFY(std::abs(most->field.density[c] - other.density[c]) < 1e-5f);
            QVERIFY(std::abs(mean->field.density[c] - 0.75f * other.density[c]) < 1e-5f);
        }
        choose("fieldChoice", 4);
        QVERIFY(settle());
        type(find<QLineEdit>("fieldWeights"), "0.2, 0.4");
        QVERIFY(settle());
        QVERIFY(std::abs(w_->session().project().field()->field.density[0] - 0.4f * other.density[0]) < 1e-5f);
        // as alternatives: a variant each, compared in two colours
        click("newVariant");
        choose("fieldChoice", 0);
        QVERIFY(settle());
        choose("compareWith", 1);
        QVERIFY2(find<QLabel>("comparisonFigures")->text().contains("Overlap"),
                 qPrintable(find<QLabel>("comparisonFigures")->text() + find<QComboBox>("compareWith")->currentText()));
        QCOMPARE(w_->viewBar().options().show, report::Show::comparison);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
    }

    void aBoreIsMadeByPickingItOnAnImportedBody() {
        const std::size_t before = part().interfaces.size();
        w_->useBody(QString::fromStdString(writeOriginal()), "original");
        QVERIFY(settle());
        QVERIFY(part().original.has_value());
        showInterfaces();
        click("pickFace");
        QVERIFY(settle());
        w_->view().fit();
        // the far wall of the bore, seen from the corner
        const QPointF at = w_->view().placeOf(Vec3(40 - 4.2, 15 + 4.2, 12));
        QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, at.toPoint());
        const QString words = find<QLabel>("pickedWords")->text();
        QVERIFY2(words.contains("Bore of Ø 12"), qPrintable(words));
        QVERIFY(words.contains("off by"));
        type(find<QLineEdit>("newInterfaceDiameter"), "12.5");
        type(find<QLineEdit>("newInterfaceRing"), "20");
        click("createInterface");
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before + 1);
        const duty::Interface& i = part().interfaces.back();
        QCOMPARE(i.boreDiameter, 12.5);
        QVERIFY(std::hypot(i.origin[0] - 40, i.origin[1] - 15) < 0.02);
        QVERIFY(std::abs(i.length - 15) < 0.11 && std::abs(std::abs(i.axis[2]) - 1) < 1e-9);
        QVERIFY(w_->session().project().field());  // read again with the new interface
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before);
    }

    /// Faces of a STEP file by clicks: a free form, and a slot by one of its ends and its smooth neighbours.
    void facesOfAnyFormAreKept() {
        const std::size_t before = part().interfaces.size();
        made_up::StepBracket bracket;
        const std::string file = (dir_.path() + "/bracket.step").toStdString();
        bracket.write(file);
        w_->useBody(QString::fromStdString(file), "original");
        QVERIFY(settle());
        showInterfaces();
        auto pick = [&](const Vec3& place) {
            w_->view().fit();
            QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, w_->view().placeOf(place).toPoint());
        };
        auto words = [&] { return find<QLabel>("pickedWords")->text(); };
        click("pickFace");
        QVERIFY(settle());
        pick(bracket.seat());
        QVERIFY2(words().startsWith("1 face") && words().contains("free form"), qPrintable(words()));
        QCOMPARE(find<QComboBox>("newInterfaceKind")->currentText(), QString("faces"));
        type(find<QLineEdit>("newInterfaceName"), "seat");
        type(find<QLineEdit>("newInterfaceLength"), "4");
        click("createInterface");
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before + 1);
        const duty::Interface seat = part().interfaces.back();
        QVERIFY(seat.kind == duty::Interface::Kind::faces && seat.places.size() == 1 && seat.length == 4);
        const Vec3& at = seat.places[0];
        QVERIFY(std::abs(at.z() - made_up::StepBracket::seatHeight(at.x(), at.y())) < 1e-3);
        QVERIFY(seat.axis.z() < -0.98);

        click("pickFace");
        QVERIFY(settle());
        // the end of the slot that looks up, where the view sees it
        Vec3 end = bracket.slotWall(3);
        for (const double y : {-4.4, 4.4}) {
            end = bracket.inLug({0, y, 25});
            pick(end);
            if (words().contains("cylinder")) break;
        }
        QVERIFY2(words().contains("cylinder, Ø 10"), qPrintable(words()));
        click("keepNeighbours");
        QVERIFY2(words().startsWith("4 faces") && words().contains("2 × plane"), qPrintable(words()));
        pick(end);  // once more: out
        QVERIFY2(words().startsWith("3 faces"), qPrintable(words()));
        click("keepNeighbours");
        type(find<QLineEdit>("newInterfaceName"), "slot");
        click("createInterface");
        QVERIFY(settle());
        QCOMPARE(part().interfaces.back().places.size(), std::size_t(4));
        QCOMPARE(part().interfaces.back().name, std::string("slot"));
        for (int k = 0; k < 2; ++k) {
            QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
            QVERIFY(settle());
        }
        QCOMPARE(part().interfaces.size(), before);
    }

    /// An edge of the original that is clicked, a point that is typed, and a support that names the edge.
    void edgesAndPointsAreKept() {
        const std::size_t before = part().interfaces.size();
        made_up::StepBracket bracket;
        const std::string file = (dir_.path() + "/bracket.step").toStdString();
        bracket.write(file);
        w_->useBody(QString::fromStdString(file), "original");
        QVERIFY(settle());
        showInterfaces();
        click("pickFace");
        QVERIFY(settle());
        w_->view().fit();
        const Vec3 rim(13, 17, made_up::StepBracket::seatHeight(13, 17));  // on the seat, near its lower edge
        QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, w_->view().placeOf(rim).toPoint());
        auto words = [&] { return find<QLabel>("pickedWords")->text(); };
        choose("newInterfaceKind", static_cast<int>(duty::Interface::Kind::edges));
        QVERIFY2(words().startsWith("1 edge, 22"), qPrintable(words()));
        type(find<QLineEdit>("newInterfaceName"), "rim");
        type(find<QLineEdit>("newInterfaceLength"), "1.5");
        click("createInterface");
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before + 1);
        const duty::Interface made = part().interfaces.back();
        QVERIFY(made.kind == duty::Interface::Kind::edges && made.length == 1.5 && made.places.size() == 1);
        QVERIFY2(std::abs(made.places[0].y() - 16) < 1e-3, qPrintable(QString::number(made.places[0].y())));
        w_->dossier().openCard(Stage::duty);
        click("editLoads");
        click("addSupport");
        QCOMPARE(part().supports.back().on.face, std::string("edge"));
        QVERIFY(part().supports.back().on.interfaces == std::vector<std::string>{"rim"});
        showInterfaces();
        click("typeInterface");
        choose("newInterfaceKind", static_cast<int>(duty::Interface::Kind::points));
        type(find<QLineEdit>("newInterfaceName"), "tip");
        type(find<QLineEdit>("newInterfacePlace"), "13, 25, 18.5");
        click("createInterface");
        QVERIFY(settle());
        QVERIFY2(part().interfaces.size() == before + 2, qPrintable(find<QLabel>("error")->text()));
        QVERIFY((part().interfaces.back().lines[0][0] - Vec3(13, 25, 18.5)).norm() < 1e-9);
        for (int k = 0; k < 3; ++k) {
            QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
            QVERIFY(settle());
        }
        QCOMPARE(part().interfaces.size(), before);
    }

    /// The top of the body with its hole: a pad of that outline, exactly in its plane; a typed diameter makes it a
    /// disc.
    void aFaceIsPickedWithItsOutline() {
        const std::size_t before = part().interfaces.size();
        w_->useBody(QString::fromStdString(writeOriginal()), "original");
        QVERIFY(settle());
        showInterfaces();
        auto pickTop = [&] {
            click("pickFace");
            QVERIFY(settle());
            w_->view().fit();
            const QPointF at = w_->view().placeOf(Vec3(58, 15, 15));
            QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, at.toPoint());
        };
        pickTop();
        QVERIFY2(find<QLabel>("pickedWords")->text().contains("outline"),
                 qPrintable(find<QLabel>("pickedWords")->text()));
        type(find<QLineEdit>("newInterfaceName"), "top");
        click("createInterface");
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before + 1);
        const duty::Interface& i = part().interfaces.back();
        QVERIFY(i.kind == duty::Interface::Kind::pad && i.outline.size() == 2 && i.length == 5);
        QVERIFY(std::abs(i.origin.z() - 15) < 1e-9 && (i.axis + Vec3::UnitZ()).norm() < 1e-9);
        const double area = shape::Outline(i.axis, i.outline).area();
        QVERIFY2(std::abs(area - (80 * 30 - M_PI * 36)) < 3, qPrintable(QString::number(area)));
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        pickTop();
        type(find<QLineEdit>("newInterfaceDiameter"), "20");
        click("createInterface");
        QVERIFY(settle());
        QVERIFY(part().interfaces.back().outline.empty() && part().interfaces.back().ringDiameter == 20);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QCOMPARE(part().interfaces.size(), before);
    }

    /// Without any file of a designer: typed, repeated, several changed at once, and picked on the field.
    void interfacesWithoutADesignersBody() {
        showInterfaces();
        const std::size_t before = part().interfaces.size();
        click("typeInterface");
        QVERIFY(find<QLineEdit>("newInterfacePlace")->isVisible());
        type(find<QLineEdit>("newInterfaceName"), "nose");
        type(find<QLineEdit>("newInterfacePlace"), "40, 1.5 cm, 0");
        type(find<QLineEdit>("newInterfaceDiameter"), "6");
        type(find<QLineEdit>("newInterfaceRing"), "12");
        type(find<QLineEdit>("newInterfaceLength"), "15");
        click("createInterface");
        QVERIFY(settle());
        const duty::Interface* nose = part().findInterface("nose");
        QVERIFY(nose && (nose->origin - Vec3(40, 15, 0)).norm() < 1e-9);
        QVERIFY(nose->boreDiameter == 6 && nose->ringDiameter == 12 && nose->length == 15);
        auto* table = find<QTableWidget>("interfaceTable");
        table->setCurrentCell(static_cast<int>(before), 0);
        click("repeatInterface");
        find<QComboBox>("copyKind")->setCurrentIndex(1);
        type(find<QLineEdit>("copyPoint"), "30, 0, 0");
        type(find<QLineEdit>("copyAxis"), "1, 0, 0");
        click("makeCopies");
        QVERIFY(settle());
        QVERIFY(part().findInterface("nose 2") && std::abs(part().findInterface("nose 2")->origin[0] - 20) < 1e-9);
        // a place that is no place is told, and nothing changes
        click("typeInterface");
        type(find<QLineEdit>("newInterfacePlace"), "40, 15");
        click("createInterface");
        QVERIFY(find<QLabel>("error")->isVisible());
        QCOMPARE(part().interfaces.size(), before + 2);
        QVERIFY(find<QLineEdit>("newInterfacePlace")->isVisible());
        click("typeInterface");
        // the blend of both noses at once
        table->selectionModel()->clearSelection();
        for (int r : {static_cast<int>(before), static_cast<int>(before) + 1})
            table->selectionModel()->select(table->model()->index(r, 0),
                                            QItemSelectionModel::Select | QItemSelectionModel::Rows);
        table->item(static_cast<int>(before), 9)->setText("3.5");
        QVERIFY(settle());
        QCOMPARE(part().findInterface("nose")->blendRadius, 3.5);
        QCOMPARE(part().findInterface("nose 2")->blendRadius, 3.5);
        QVERIFY(part().interfaces[0].blendRadius != 3.5);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);  // one step
        QVERIFY(settle());
        QVERIFY(part().findInterface("nose")->blendRadius != 3.5 && part().findInterface("nose 2")->blendRadius != 3.5);
        // the ring of the eye, on the field itself: nine of its full or empty cells across
        click("pickFace");
        QVERIFY(settle());
        w_->view().fit();
        const QPointF at = w_->view().placeOf(Vec3(65 + 11 * 0.8, 15 - 11 * 0.6, 8));
        QTest::mouseClick(&w_->view(), Qt::LeftButton, {}, at.toPoint());
        const QString words = find<QLabel>("pickedWords")->text();
        QVERIFY2(words.contains("Pin of Ø") && words.contains("off by"), qPrintable(words));
        QVERIFY2(std::abs(find<QLineEdit>("newInterfaceDiameter")->text().section(' ', 0, 0).toDouble() - 22) < 3,
                 qPrintable(find<QLineEdit>("newInterfaceDiameter")->text()));
        click("pickFace");
    }

    /// A slab by two handles, a box around the chosen interface by six.
    void slabAndBoxAreDragged() {
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        w_->viewBar().setShow(report::Show::surface);
        auto* section = find<QComboBox>("section");
        choose("section", section->findText("slab across x"));
        auto s = w_->view().scene()->section;
        QVERIFY(s.on && s.kind == render::Scene::Section::Kind::slab && s.depth > 1);
        const double far = s.point.x() + s.depth;
        emit w_->view().handleMoved(0, s.point + Vec3(3, 0, 0), true);
        auto moved = w_->view().scene()->section;
        QVERIFY(std::abs(moved.point.x() - s.point.x() - 3) < 1e-9 &&
                std::abs(moved.point.x() + moved.depth - far) < 1e-9);
        emit w_->view().handleMoved(2, moved.point + Vec3(7, 0, 0), true);
        QVERIFY(std::abs(w_->view().scene()->section.depth - 7) < 1e-9);
        emit w_->view().handleMoved(2, moved.point - Vec3(7, 0, 0), true);  // not through the first
        QVERIFY(w_->view().scene()->section.depth > 0);
        w_->openTool(Tool::interfaces);
        find<QTableWidget>("interfaceTable")->setCurrentCell(1, 0);
        choose("section", section->findText("box"));
        s = w_->view().scene()->section;
        QVERIFY(s.kind == render::Scene::Section::Kind::box);
        const Vec3 origin = part().interfaces[1].origin;
        QVERIFY((s.low.array() < origin.array()).all() && (s.high.array() > origin.array()).all());
        QVERIFY((s.high - s.low).maxCoeff() < 70);
        emit w_->view().handleMoved(4, s.high + Vec3(5, 0, 0), true);
        QVERIFY(std::abs(w_->view().scene()->section.high.x() - s.high.x() - 5) < 1e-9);
        emit w_->view().handleMoved(4, s.low - Vec3(50, 0, 0), true);
        QVERIFY(w_->view().scene()->section.high.x() > w_->view().scene()->section.low.x());
        QCOMPARE(part().interfaces[1].origin, origin);  // none of these handles is the interface's
    }
    void movingAnInterfaceMakesWhatDependsOnItOutOfDate() {
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        QVERIFY(w_->session().freshness(Stage::surface) == Freshness::fresh);
        showInterfaces();
        auto* table = find<QTableWidget>("interfaceTable");
        table->setCurrentCell(1, 0);
        QTest::qWait(50);
        const Vec3 origin = part().interfaces[1].origin;
        const QPoint from = w_->view().placeOf(origin).toPoint();
        QTest::mousePress(&w_->view(), Qt::LeftButton, {}, from);
        for (int step = 1; step <= 4; ++step) {
            QMouseEvent move(QEvent::MouseMove, from + QPoint(2 * step, 0),
                             w_->view().mapToGlobal(from + QPoint(2 * step, 0)), Qt::NoButton, Qt::LeftButton,
                             Qt::NoModifier);
            QApplication::sendEvent(&w_->view(), &move);
        }
        QTest::mouseRelease(&w_->view(), Qt::LeftButton, {}, from + QPoint(8, 0));
        QVERIFY(settle());
        QVERIFY((part().interfaces[1].origin - origin).norm() > 0.2);
        QVERIFY(w_->session().freshness(Stage::surface) == Freshness::outOfDate);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        QVERIFY((part().interfaces[1].origin - origin).norm() < 1e-12);
        QVERIFY(w_->session().freshness(Stage::surface) == Freshness::fresh);
        // typed into the table, with a unit; nonsense is refused and changes nothing
        table->item(1, 7)->setText("0.35 in");
        QVERIFY(settle());
        QVERIFY(std::abs(part().interfaces[1].boreDiameter - 8.89) < 1e-9);
        table->item(1, 7)->setText("much");
        QVERIFY(find<QLabel>("error")->isVisible());
        QVERIFY(std::abs(part().interfaces[1].boreDiameter - 8.89) < 1e-9);
        // one that a load acts on stays
        click("removeInterface");
        QVERIFY(find<QLabel>("error")->text().contains("in use"));
    }

    /// A field of half a million cells follows the slider in fewer, and is drawn whole when nothing moves any more.
    void largeFieldsAreDrawnCoarserFirst() {
        closeWindow();
        const field::DensityField lever = made_up::leverField();
        field::DensityField fine = lever;
        fine.cells = {192, 72, 36};
        fine.spacing = lever.spacing / 6;
        fine.density.clear();
        for (int k = 0; k < 36; ++k)
            for (int j = 0; j < 72; ++j)
                for (int i = 0; i < 192; ++i) fine.density.push_back(lever.density[lever.index(i / 6, j / 6, k / 6)]);
        auto part = made_up::leverPart();
        part["field"]["spacing"] = {2.5 / 6, 2.5 / 6, 2.5 / 6};
        openWindow(QString::fromStdString(made_up::writeLever(dir_.path().toStdString(), part, fine)));
        w_->dossier().openCard(Stage::field);
        QTest::qWait(1500);  // the picture on opening
        QSignalSpy painted(w_->findChild<FieldPainter*>(), &FieldPainter::painted);
        auto* control = find<ThresholdControl>("threshold");
        QTest::keyClick(control, Qt::Key_Right);
        const auto first = w_->view().scene();
        QVERIFY2(QString::fromStdString(first->captionDetail).contains("drawn in cells of 0.83 mm"),
                 first->captionDetail.c_str());
        QTest::keyClick(control, Qt::Key_Right);  // what was asked for before is forgotten
        QVERIFY(QTest::qWaitFor([&] { return painted.count() > 0; }, 30000));
        QTest::qWait(400);
        QCOMPARE(painted.count(), 1);
        const auto whole = w_->view().scene();
        QVERIFY(QString::fromStdString(whole->captionDetail).endsWith("cells at or above 0.52"));
        QVERIFY(whole->meshes.front().triangle.size() > 3 * first->meshes.front().triangle.size());
        // what is shown meanwhile is not painted over
        QTest::keyClick(control, Qt::Key_Right);
        w_->viewBar().setShow(report::Show::duty);
        w_->viewBar().refresh();
        emit w_->viewBar().changed();
        QTest::qWait(1500);
        QCOMPARE(painted.count(), 1);
    }

    void mapsAndFiguresOfTheSurface() {
        w_->session().run(Stage::surface);
        QVERIFY(settle());
        w_->dossier().openCard(Stage::surface);
        click("showThickness");
        QCOMPARE(w_->viewBar().options().show, report::Show::thickness);
        emit find<QLabel>("surfaceFigures")->linkActivated("deviation");  // the figure leads to its place
        QCOMPARE(w_->viewBar().options().show, report::Show::deviation);
        w_->session().edit("Build direction", [](project::Project& p) {
            p.variants[p.open].recipe.printing.up = Vec3::UnitX();  // not the best one
        });
        click("showOverhangs");
        QVERIFY(settle());
        QVERIFY(w_->session().project().process(w_->session().recipe()));
        QVERIFY(find<QLabel>("printingFigures")->text().contains("Support volume"));
        QVERIFY(find<QLabel>("castingFigures")->text().contains("undercut"));
        click("showCurvature");
        QCOMPARE(w_->viewBar().options().show, report::Show::curvature);
        QCOMPARE(w_->view().scene()->legend.title, std::string("mean curvature"));
        QVERIFY(!find<QPushButton>("showOverhangs")->isChecked());
        click("bestDirection");
        QVERIFY(settle());
        const auto p = w_->session().project().process(w_->session().recipe());
        QVERIFY(p && p->overhang.supportVolume <= p->directions.front().supportVolume * 1.000001 + 1e-9);
        // what changes the shape makes the surface out of date; what is only measured does not
        QVERIFY(w_->session().freshness(Stage::surface) == Freshness::fresh);
        scrollTo(find<QCheckBox>("addDraft"));
        QTest::mouseClick(find<QCheckBox>("addDraft"), Qt::LeftButton, {}, QPoint(10, 8));
        QVERIFY(w_->session().recipe().draft.add);
        QVERIFY(w_->session().freshness(Stage::surface) == Freshness::outOfDate);
        QTest::keyClick(w_.get(), Qt::Key_Z, Qt::ControlModifier);
        QVERIFY(settle());
        // original, surface and field together, cut open
        choose("beside", 4);
        QVERIFY(settle());
        choose("section", 2);
        const auto o = w_->viewBar().options();
        QVERIFY(o.fieldGhost && o.original == report::SceneOptions::Beside::ghost && o.section.on);
        // every format is written
        for (const char* ending : {"stl", "3mf", "obj", "ply"}) {
            const QString path = dir_.path() + "/out." + ending;
            w_->exportTo(path);
            QVERIFY(settle());
            QVERIFY2(QFileInfo(path).size() > 10000, ending);
        }
        const auto back = surface::measure(exchange::readBody((dir_.path() + "/out.ply").toStdString()));
        QVERIFY(std::abs(back.volume / w_->session().lastKnown().surface->measures.volume - 1) < 1e-9);
    }
};

QTEST_MAIN(TestGeometryWindow)
#include "shape/outline.hpp"
#include "test_geometry_window.moc"

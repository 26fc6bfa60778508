#include <QGuiApplication>
#include <QPainter>
#include <QtTest>
#include <set>

#include "box_mesh.hpp"
#include "exchange/writers.hpp"
#include "made_up_part.hpp"
#include "render/overlay.hpp"
#include "render/renderer.hpp"
#include "report/cage_scene.hpp"
#include "report/part_scene.hpp"
#include "report/report.hpp"

using namespace escultura;
using namespace escultura::render;
using project::Stage;

/// Pictures are made without a display; what they show is measured in pixels.
class TestRender : public QObject {
    Q_OBJECT
    QTemporaryDir dir_;
    project::Project project_;

    static std::shared_ptr<Scene> cube(double half, Colour colour) {
        auto scene = std::make_shared<Scene>();
        ColouredMesh m;
        for (int k = 0; k < 8; ++k) {
            m.position.push_back(half * Vec3(k & 1 ? 1 : -1, k & 2 ? 1 : -1, k & 4 ? 1 : -1));
            m.colour.push_back(colour);
            m.value.push_back(k);
        }
        m.triangle = {{0, 2, 1}, {1, 2, 3}, {4, 5, 6}, {5, 7, 6}, {0, 1, 4}, {1, 5, 4},
                      {2, 6, 3}, {3, 6, 7}, {0, 4, 2}, {2, 4, 6}, {1, 3, 5}, {3, 7, 5}};
        m.flat = true;
        scene->meshes.push_back(m);
        scene->bounds = Box3{Vec3::Constant(-half), Vec3::Constant(half)};
        return scene;
    }
    static int notBackground(const QImage& image, QRgb background) {
        int count = 0;
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) count += (image.pixel(x, y) & 0xffffff) != (background & 0xffffff);
        return count;
    }

  private slots:
    void initTestCase() {
        Progress progress;
        project_ = project::openPart(made_up::writeLever(dir_.path().toStdString()), progress);
        project_.variants[0].recipe.elementSize = 3.5;
        project::run(project_, project_.current().recipe, Stage::findings, progress);
    }
    void coloursOfTheSafetyFactorAnswerTheQuestion() {
        ColourScale s;
        s.ramp = Ramp::safetyFactor;
        s.low = 0;
        s.middle = 1.5;
        s.high = 6;
        QCOMPARE(s.position(1.5), 0.5);
        QCOMPARE(s.position(0.0), 0.0);
        QCOMPARE(s.position(100.0), 1.0);
        const Colour fails = s.colour(1.0), passes = s.colour(4.0);
        QVERIFY(fails.r > fails.b + 40);    // clay
        QVERIFY(passes.g > passes.r + 20);  // teal
        for (double v : {0.2, 1.5, 3.0, 5.5}) QVERIFY(std::abs(s.valueAt(s.position(v)) - v) < 1e-12);
    }
    void rampsGetDarkerEvenly() {
        for (Ramp ramp : {Ramp::stress, Ramp::displacement}) {
            ColourScale s;
            s.ramp = ramp;
            double last = 1e9;
            for (double x = 0; x <= 1; x += 0.05) {
                const Colour c = s.colourAt(x);
                const double light = 0.2126 * c.r + 0.7152 * c.g + 0.0722 * c.b;
                QVERIFY(light < last + 1e-9);  // monotone lightness: readable without telling hues apart
                last = light;
            }
        }
    }
    void deviationIsTwoSidedAboutZero() {
        ColourScale s;
        s.ramp = Ramp::deviation;
        s.low = -2, s.high = 2;
        const Colour below = s.colour(-1.5), zero = s.colour(0), above = s.colour(1.5);
        QVERIFY(below.b > below.r + 20 && above.r > above.b + 60);
        QVERIFY(zero.r > 230 && zero.b > 200);
        auto light = [&](double v) {
            const Colour c = s.colour(v);
            return 0.2126 * c.r + 0.7152 * c.g + 0.0722 * c.b;
        };
        for (double v = 0; v < 1.9; v += 0.1) QVERIFY(light(v + 0.1) < light(v) && light(-v - 0.1) < light(-v));
    }
    void bandsAreSteps() {
        ColourScale s;
        s.bands = 4;
        QCOMPARE(s.colourAt(0.01).g, s.colourAt(0.24).g);
        QVERIFY(s.colourAt(0.24).g != s.colourAt(0.26).g);
    }
    void drawsWhereTheCameraLooks() {
        Renderer r;
        r.setScene(cube(10, {200, 80, 40}));
        Camera c;
        c.direction = Vec3(0, 1, 0);
        c.height = 40;
        const QImage image = r.render(c, 200, 200, false, {0, 0, 0});
        // the face of 20 mm covers half of 40 mm: 100 x 100 pixels
        const int lit = notBackground(image, qRgb(0, 0, 0));
        QVERIFY2(std::abs(lit - 10000) < 250, qPrintable(QString::number(lit)));
        QVERIFY(qRed(image.pixel(100, 100)) > qBlue(image.pixel(100, 100)) + 30);
        QCOMPARE(image.pixel(5, 5) & 0xffffff, 0u);
        c.focus = Vec3(15, 0, 0);  // the part moves to the left by 15 mm = 75 pixels
        const QImage moved = r.render(c, 200, 200, false, {0, 0, 0});
        QVERIFY(moved.pixel(30, 100) != qRgb(0, 0, 0) && (moved.pixel(120, 100) & 0xffffff) == 0);
    }
    void projectionAndPickingAgree() {
        const Picker picker(cube(10, {200, 200, 200}));
        const Camera c = fit(Box3{Vec3::Constant(-10), Vec3::Constant(10)}, 300, 200);
        for (const Vec3& p : {Vec3(10, -10, 10), Vec3(10, -3, 2), Vec3(2, -10, 4), Vec3(1, -2, 10)}) {
            const Vec3 pixel = c.project(0.98 * p, 300, 200);
            const auto hit = picker.pick(c, 300, 200, pixel[0], pixel[1]);
            QVERIFY(hit);
            const Vec3 back = c.project(hit->position, 300, 200);
            QVERIFY(std::hypot(back[0] - pixel[0], back[1] - pixel[1]) < 0.01);
            QVERIFY(std::abs(hit->position.cwiseAbs().maxCoeff() - 10) < 1e-3);  // on the cube
        }
        QVERIFY(!picker.pick(c, 300, 200, 2, 2));
    }
    void fitShowsTheWholeBox() {
        const Box3 box{Vec3(0, -60, -50), Vec3(200, 60, 50)};
        for (const auto& [direction, up] :
             {std::pair{Vec3(-0.75, 0.75, -0.62), Vec3(0, 0, 1)}, std::pair{Vec3(0, 0, -1), Vec3(0, 1, 0)},
              std::pair{Vec3(1, 0, 0), Vec3(0, 0, 1)}}) {
            const Camera c = fit(box, 800, 500, direction, up);
            QVERIFY(std::isfinite(c.height) && c.height > 90);
            for (int m = 0; m < 8; ++m) {
                const Vec3 p = c.project(Vec3((m & 1 ? box.high : box.low)[0], (m & 2 ? box.high : box.low)[1],
                                              (m & 4 ? box.high : box.low)[2]),
                                         800, 500);
                QVERIFY(p[0] >= 0 && p[0] <= 800 && p[1] >= 0 && p[1] <= 500);
            }
        }
    }
    void orbitKeepsTheHorizon() {
        Camera c;
        c.orbit(1.0, 0.3);
        QVERIFY(std::abs(c.direction.norm() - 1) < 1e-12);
        QVERIFY(std::abs(c.side().dot(c.up)) < 1e-12);
        for (int i = 0; i < 50; ++i) c.orbit(0, 0.2);  // cannot turn over the pole
        QVERIFY(std::abs(c.direction.dot(c.up)) < 0.999);
    }
    void scenesOfTheLever() {
        const auto s = project_.surface(project_.current().recipe);
        const auto c = project_.check(project_.current().recipe);
        const auto f = project_.findings(project_.current().recipe);
        report::SceneOptions o;
        o.show = report::Show::check;
        o.loadCase = 1;
        const auto results =
            report::makeScene(project_, project_.current().recipe, o, {s.get(), c.get(), f.get(), nullptr, nullptr});
        QVERIFY(results->legend.shown);
        QCOMPARE(results->legend.unit, std::string("MPa"));
        QVERIFY(std::abs(results->legend.dataHigh - c->cases[1].maxVonMises) < 1e-12);
        double shares = 0;
        for (double x : results->legend.share) shares += x;
        QVERIFY(std::abs(shares - 1) < 1e-9);
        QCOMPARE(results->arrows.size(), std::size_t(1));
        bool labelled = false;
        for (const auto& l : results->labels) labelled = labelled || l.strong == "2.00 kN";
        QVERIFY(labelled);
        // four flat triangles for each curved face
        QCOMPARE(results->meshes[0].triangle.size(), 4 * c->mesh.boundary.size());
        // deformed by a factor: the nodes move by it
        o.deformation = 100;
        const auto deformed =
            report::makeScene(project_, project_.current().recipe, o, {s.get(), c.get(), f.get(), nullptr, nullptr});
        for (std::size_t v = 0; v < deformed->meshes[0].position.size(); v += 97) {
            const auto n = deformed->meshes[0].source[v];
            QVERIFY(
                (deformed->meshes[0].position[v] - results->meshes[0].position[v] - 100 * c->cases[1].displacement[n])
                    .norm() < 1e-9);
        }
        o = {};
        o.show = report::Show::deviation;
        const auto deviation =
            report::makeScene(project_, project_.current().recipe, o, {s.get(), c.get(), f.get(), nullptr, nullptr});
        QCOMPARE(deviation->legend.shareOf, std::string("area"));
        double areas = 0;
        for (double x : deviation->legend.share) areas += x;
        QVERIFY(std::abs(areas - 1) < 1e-6);
        // with sign: a quarter of the area lies about zero, hardly any far inside; the rings stand outside the field
        const auto& share = deviation->legend.share;
        QVERIFY(share[10] + share[11] + share[12] + share[13] > 0.2 && share.front() < 0.05);
        QVERIFY(std::abs(deviation->legend.scale.low + deviation->legend.scale.high) < 1e-9);  // most of it is close
        o = {};
        o.show = report::Show::field;
        const auto cells = report::makeScene(project_, project_.current().recipe, o, {});
        QVERIFY(cells->meshes[0].flat && cells->meshes[0].triangle.size() % 2 == 0);
        duty::Recipe cut = project_.current().recipe;
        cut.threshold = 0.8;  // the pieces that would fall off are in ochre
        const auto pieces = report::makeScene(project_, cut, o, {});
        int ochre = 0;
        for (const Colour& k : pieces->meshes[0].colour) ochre += k.r > 200 && k.b < 90;
        QVERIFY(ochre > 100);
    }
    /// A cube's cage: its twelve edges over the limit surface, the chosen and the sharp ones apart; chosen faces
    /// recoloured.
    void sceneOfACage() {
        cage::Cage c;
        for (int k = 0; k < 8; ++k) c.position.emplace_back(k & 1 ? 1 : -1, k & 2 ? 1 : -1, k & 4 ? 1 : -1);
        c.face = {{0, 4, 6, 2}, {1, 3, 7, 5}, {0, 1, 5, 4}, {2, 6, 7, 3}, {0, 2, 3, 1}, {4, 5, 7, 6}};
        c.crease = {{4, 5, 3.0}};
        const cage::LimitMesh limit(c, 4);
        const auto mesh = limit.at(c.position);
        report::CageView v;
        v.cage = &c;
        v.limit = &mesh;
        v.faceOf = &limit.faceOf();
        v.selectedFace.assign(6, 0);
        v.selectedFace[1] = 1;
        v.selectedEdges = {{0, 1}};
        v.flaws = {{"folds over", Vec3(1, 1, 1)}};
        auto scene = report::cageScene(v);
        std::size_t edges = 0;
        for (const auto& l : scene->lines) edges += l.position.size() / 2;
        QCOMPARE(edges, std::size_t(12));
        QCOMPARE(scene->lines.size(), std::size_t(3));  // plain, sharp, chosen
        QCOMPARE(scene->labels.size(), std::size_t(1));
        QVERIFY(!scene->legend.shown);
        // the chosen face has its own copies of its vertices
        QCOMPARE(scene->meshes[0].triangle.size(), mesh.triangle.size());
        QCOMPARE(scene->meshes[0].position.size(), mesh.position.size() + 25);
        // by deviation: colours and shares of area
        std::vector<float> deviation(mesh.position.size());
        for (std::size_t i = 0; i < deviation.size(); ++i) deviation[i] = static_cast<float>(mesh.position[i].z());
        v.deviation = &deviation;
        scene = report::cageScene(v);
        QVERIFY(scene->legend.shown);
        QCOMPARE(scene->legend.unit, std::string("mm"));
        double share = 0;
        for (double x : scene->legend.share) share += x;
        QVERIFY(std::abs(share - 1) < 1e-9);
        QVERIFY(scene->legend.scale.low < 0 && scene->legend.scale.low == -scene->legend.scale.high);
        // an open cage shows its rim
        c.face.pop_back();
        c.crease.clear();
        const cage::LimitMesh open(c, 2);
        const auto rest = open.at(c.position);
        report::CageView w;
        w.cage = &c;
        w.limit = &rest;
        scene = report::cageScene(w);
        QCOMPARE(scene->lines.size(), std::size_t(2));
        QCOMPARE(scene->lines.back().position.size() / 2, std::size_t(4));
    }
    /// A solid: one colour a kind of surface, edges between surfaces, failed features named at their place.
    void sceneOfASolid() {
        stages::RebuildResult r;
        // a tetrahedron whose one side belongs to an interface, another to a feature of our own
        r.solid.mesh.position = {{0, 0, 0}, {10, 0, 0}, {0, 10, 0}, {0, 0, 10}};
        r.solid.mesh.triangle = {{0, 2, 1}, {0, 1, 3}, {1, 2, 3}, {0, 3, 2}};
        r.solid.mesh.owner = {0, 1, 2, 0};
        r.solid.surfaces.resize(3);
        r.solid.surfaces[1].feature = "bolt bore";
        r.solid.surfaces[1].interface = "bolt";
        r.solid.surfaces[2].feature = "oil hole";
        solid::FeatureOutcome failed;
        failed.name = "far hole";
        failed.at = Vec3(5, 5, 5);
        r.solid.features = {failed};
        const auto plain = report::solidScene(r, ""), chosen = report::solidScene(r, "oil hole");
        QCOMPARE(plain->lines[0].position.size() / 2, std::size_t(5));  // but the edge between the two free sides
        QCOMPARE(plain->labels.size(), std::size_t(1));
        QCOMPARE(plain->labels[0].strong, std::string("far hole"));
        std::set<std::array<int, 3>> colours;
        for (const auto& c : plain->meshes[0].colour) colours.insert({c.r, c.g, c.b});
        QCOMPARE(colours.size(), std::size_t(3));
        bool differs = false;
        for (std::size_t i = 0; i < plain->meshes[0].colour.size(); ++i)
            differs = differs || plain->meshes[0].colour[i].r != chosen->meshes[0].colour[i].r;
        QVERIFY(differs);
    }
    void automaticDeformationIsARoundNumber() {
        const auto c = project_.check(project_.current().recipe);
        const double factor = report::automaticDeformation(*c, 0);
        const double lead = factor / std::pow(10, std::floor(std::log10(factor)));
        QVERIFY(std::abs(lead - 1) < 1e-9 || std::abs(lead - 2) < 1e-9 || std::abs(lead - 5) < 1e-9);
        QCOMPARE(report::automaticDeformation(*c, -1), 0.0);
    }
    void overlayPaintsLegendAndLabels() {
        Scene scene;
        scene.legend.shown = true;
        scene.legend.title = "von Mises";
        scene.legend.unit = "MPa";
        scene.legend.scale = {Ramp::stress, 0, 100, 0, 0};
        scene.legend.share = {0.5, 0.3, 0.2};
        scene.labels.push_back({Label::Role::maximum, Vec3::Zero(), "highest", "100 MPa"});
        Camera c;
        QImage image(800, 500, QImage::Format_RGB32);
        image.fill(QColor(0xF6, 0xF2, 0xEA));
        QPainter p(&image);
        QFont font("Inter");
        font.setPixelSize(13);
        p.setFont(font);
        paintOverlay(p, image.size(), scene, c);
        p.end();
        const LegendLayout at = legendLayout(image.size(), QFontMetricsF(font));
        QVERIFY(QRectF(0, 0, 800, 500).contains(at.card) && at.card.contains(at.bar));
        const QRgb top = image.pixel(at.bar.center().x(), at.bar.top() + 3),
                   bottom = image.pixel(at.bar.center().x(), at.bar.bottom() - 3);
        QVERIFY(qGray(top) < 60 && qGray(bottom) > 200);           // dark on top: high stress
        QVERIFY(image.pixel(400, 250) != qRgb(0xF6, 0xF2, 0xEA));  // the label's point
    }
    /// However many there are and however close together: over neither each other nor legend, and in the picture.
    void labelsOverlapNothing() {
        const QSize size(620, 400);
        QFont font("Inter");
        font.setPixelSize(13);
        Camera camera;
        camera.height = 100;
        const QRectF legend = legendLayout(size, QFontMetricsF(font)).card, caption(16, 14, 220, 28);
        std::vector<Label> labels;
        for (int k = 0; k < 24; ++k)
            labels.push_back({Label::Role::finding,
                              (k % 6) * 1.5 * camera.side() + (k < 12 ? 0 : 40) * camera.screenUp() +
                                  (k % 2 ? 60 : 20) * camera.side(),
                              "hotspot in a fillet", QString("H%1").arg(k).toStdString()});
        labels.push_back({Label::Role::load, 1000 * camera.side(), "", "out of the picture"});
        const auto placed = placeLabels(labels, size, camera, font, {legend, caption});
        QCOMPARE(placed.size(), labels.size());
        QVERIFY(!placed.back());
        int boxes = 0;
        for (std::size_t i = 0; i < 24; ++i) {
            QVERIFY(placed[i].has_value());
            if (!placed[i]->box) continue;
            ++boxes;
            const QRectF& box = *placed[i]->box;
            QVERIFY(QRectF(0, 0, 620, 400).contains(box) && !box.intersects(legend) && !box.intersects(caption));
            for (std::size_t k = 0; k < i; ++k) QVERIFY(!placed[k]->box || !placed[k]->box->intersects(box));
        }
        QVERIFY2(boxes >= 20, qPrintable(QString::number(boxes)));
    }
    /// What a plane, a slab or a box leaves is drawn and picked, the rest is neither.
    void sectionsLeaveWhatIsWithin() {
        using Kind = Scene::Section::Kind;
        Renderer renderer;
        const Camera c = fit(cube(10, {200, 0, 0})->bounds, 300, 300, Vec3(0, 0, -1), Vec3::UnitY());
        auto seen = [&](const Scene::Section& section, double x) {
            auto scene = cube(10, {200, 0, 0});
            scene->section = section;
            renderer.setScene(scene);
            const QImage image = renderer.render(c, 300, 300, false);
            const Vec3 at = c.project(Vec3(x, 0, 10), 300, 300);
            const auto hit = Picker(scene).pick(c, 300, 300, at[0], at[1]);
            const bool drawn = qRed(image.pixel(static_cast<int>(at[0]), static_cast<int>(at[1]))) -
                                   qBlue(image.pixel(static_cast<int>(at[0]), static_cast<int>(at[1]))) >
                               40;
            return drawn == hit.has_value() ? (drawn ? 1 : 0) : -1;  // both or neither
        };
        Scene::Section s;
        QCOMPARE(seen(s, 0), 1);
        s.on = true;
        s.normal = Vec3::UnitX();
        s.point = Vec3(2, 0, 0);
        QCOMPARE(seen(s, 5), 1);
        QCOMPARE(seen(s, -5), 0);
        s.kind = Kind::slab;
        s.depth = 4;
        QCOMPARE(seen(s, 4), 1);
        QCOMPARE(seen(s, 8), 0);
        QCOMPARE(seen(s, -5), 0);
        s.kind = Kind::box;
        s.low = Vec3(-6, -3, 5);
        s.high = Vec3(-2, 3, 15);
        QCOMPARE(seen(s, -4), 1);
        QCOMPARE(seen(s, 0), 0);
        s.low[2] = 11;  // above the cube
        QCOMPARE(seen(s, -4), 0);
    }
    void labelsOfHiddenPlacesAreKnown() {
        const auto scene = cube(10, {200, 200, 200});
        const Camera c = fit(scene->bounds, 300, 300, Vec3(0, 0, -1), Vec3::UnitY());
        std::vector<Label> labels{{Label::Role::load, Vec3(0, 0, 10), "front", ""},
                                  {Label::Role::load, Vec3(0, 0, -10), "back", ""},
                                  {Label::Role::load, Vec3(10.5, 0, -10), "beside", ""}};
        markHidden(labels, Picker(scene), c, QSize(300, 300));
        QVERIFY(!labels[0].isHidden && labels[1].isHidden && !labels[2].isHidden);
    }
    void reportTellsWhatWasChosen() {
        project::Variant v = project_.current();
        v.reasons[1] = "lighter <than> before & strong";
        const std::string html = report::reportHtml(project_, v, {"surface"});
        QVERIFY(html.find("lighter &lt;than&gt; before &amp; strong") != std::string::npos);
        QVERIFY(html.find("pictures/surface.png") != std::string::npos);
        QVERIFY(html.find("pictures/field.png") == std::string::npos);
        for (const char* chapter : {"Duty", "Field", "Surface", "Rebuild", "Check", "Findings", "Release"})
            QVERIFY2(html.find(chapter) != std::string::npos, chapter);
        project::Variant stale = v;
        stale.recipe.threshold = 0.33;
        QVERIFY(report::reportHtml(project_, stale, {}).find("Out of date") != std::string::npos);
    }
    /// The file of an imported body lies beside the part; the release holds it, and is verified without the part.
    void bodiesOfFeaturesGoWithTheRelease() {
        QTemporaryDir home, out;
        exchange::writeStl(home.filePath("tool.stl").toStdString(), made_up::boxMesh({36, 19, -5}, {44, 40, 20}),
                           "tool");
        Progress progress;
        auto p = project::openPart(made_up::writeLever(home.path().toStdString()), progress);
        auto& recipe = p.variants[0].recipe;
        recipe.elementSize = 4;
        recipe.rebuild.faceSize = 6;
        recipe.check.rebuilt = true;
        solid::Feature f;
        f.kind = solid::Feature::Kind::body;
        f.name = "notch";
        f.path = "tool.stl";  // beside the part file
        recipe.rebuild.ownFeatures = true;
        recipe.rebuild.features = {f};
        project::run(p, recipe, Stage::findings, progress);
        const auto solid = p.rebuild(recipe);
        QVERIFY2(solid->problems.empty(), solid->problems.empty() ? "" : solid->problems.front().c_str());
        Renderer r;
        const std::string folder = out.filePath("release").toStdString();
        report::writeRelease(p, p.current(), {}, r, folder, progress);
        QVERIFY(QFile::exists(out.filePath("release/inputs/tool.stl")));
        QFile text(out.filePath("release/recipe.json"));
        QVERIFY(text.open(QIODevice::ReadOnly));
        const QByteArray written = text.readAll();
        QVERIFY(written.contains("inputs/tool.stl") && !written.contains(home.path().toUtf8()));
        QVERIFY(home.remove());
        const auto items = report::verifyRelease(folder, true, progress);
        QVERIFY(items.size() > 15);
        for (const auto& item : items)
            QVERIFY2(item.holds, (item.what + ": " + item.expected + " / " + item.found).c_str());
        // a file that was changed, one that is gone and one too many are told
        QFile stl(out.filePath("release/surface.stl"));
        QVERIFY(stl.open(QIODevice::Append) && stl.write("x") == 1);
        stl.close();
        QVERIFY(QFile::remove(out.filePath("release/report.html")));
        QVERIFY(QFile::copy(out.filePath("release/part.json"), out.filePath("release/other.json")));
        QStringList differ;
        for (const auto& item : report::verifyRelease(folder, false, progress))
            if (!item.holds) differ << QString::fromStdString(item.what);
        differ.sort();
        QCOMPARE(differ, (QStringList{"other.json", "report.html", "surface.stl"}));
        QVERIFY(made_up::messageOf([&] {
                    report::verifyRelease(home.path().toStdString(), false, progress);
                }).find("manifest.json") != std::string::npos);
    }
    void cancellingAReleaseLeavesNothing() {
        Renderer r;
        Progress progress;
        progress.cancel();
        const std::string folder = (dir_.path() + "/cancelled").toStdString();
        QVERIFY_EXCEPTION_THROWN(report::writeRelease(project_, project_.current(), {}, r, folder, progress),
                                 Cancelled);
        QVERIFY(QDir(QString::fromStdString(folder))
                    .entryList(QDir::AllEntries | QDir::Hidden | QDir::NoDotAndDotDot)
                    .isEmpty());
    }
};

int main(int argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QGuiApplication application(argc, argv);
    TestRender test;
    return QTest::qExec(&test, argc, argv);
}
#include "test_render.moc"

#include <QBuffer>
#include <QImage>
#include <QPageSize>
#include <QPainter>
#include <QPdfWriter>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/signature.hpp"
#include "exchange/body_files.hpp"
#include "exchange/writers.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "judge/summary.hpp"
#include "project/run.hpp"
#include "render/overlay.hpp"
#include "report/made_field_files.hpp"
#include "report/paged_report.hpp"
#include "report/part_scene.hpp"
#include "report/release_files.hpp"
#include "report/report.hpp"
#include "report/variant_plots.hpp"
#include "store/state_text.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
namespace fs = std::filesystem;

using Charts = std::map<std::string, PagedReport::Chart>;

/// What stands at the head of each page.
std::pair<std::string, std::string> headerOf(const Project& p, const Variant& v, const Release* release) {
    return {p.part.name, "variant " + v.name +
                             (release ? ", release " + std::to_string(release->number) + ", " + release->date
                                      : std::string(", not released"))};
}

void writePdf(const std::string& path, const std::string& html, const std::map<std::string, QImage>& pictures,
              const Charts& charts, const std::pair<std::string, std::string>& header) {
    QBuffer bytes;
    bytes.open(QIODevice::WriteOnly);
    QPdfWriter writer(&bytes);
    writer.setPageSize(QPageSize(QPageSize::A4));
    writer.setPageMargins(QMarginsF(24, 14, 24, 16), QPageLayout::Millimeter);
    writer.setResolution(288);
    writer.setTitle(QString::fromStdString(header.first + ", " + header.second));
    writer.setCreator("Escultura");
    PagedReport report(html, pictures, charts, header, &writer, writer.width(), writer.height(), writer.resolution());
    QPainter painter(&writer);
    if (!painter.isActive())
        throw InputError(
            ErrorDetail{"The report cannot be written.", path, {}, "a folder that can be written", "the write failed"});
    for (int page = 0; page < report.pages(); ++page) {
        if (page) writer.newPage();
        report.paint(painter, page);
    }
    painter.end();
    exchange::writeText(path, bytes.data().toStdString());
}

/// A camera that looks at a place of the boundary from outside.
render::Camera towards(const mesh::TetMesh& mesh, const Vec3& place, double height) {
    const LocalPrint print = localPrint(mesh, place, 0.4 * height);
    Vec3 outward(print[4], print[5], print[6]);
    render::Camera camera;
    camera.focus = place;
    camera.height = height;
    if (outward.norm() > 0.05) camera.direction = -outward.normalized();
    camera.up = std::abs(camera.direction[2]) > 0.95 ? Vec3(Vec3::UnitY()) : Vec3(Vec3::UnitZ());
    return camera;
}

/// Safety factor over the variants beside safety factor over mass.
Charts chartsOf(const Project& p, const Variant& v) {
    const auto variants = checkedVariants(p);
    if (variants.size() < 2) return {};
    return {{"variants", [variants, part = p.partOf(v.recipe), open = v.id](QPainter& painter, const QSizeF& size) {
                 QFont font("Inter");
                 font.setPixelSize(19);
                 painter.setFont(font);
                 const QSizeF half(0.5 * size.width(), size.height());
                 paint(painter, half, variantCurves(part, variants, VariantFigure::safetyFactor));
                 painter.translate(half.width(), 0);
                 paint(painter, half, variantScatter(part, variants, open));
             }}};
}

/// A chart as a picture, for the page that a browser shows.
QImage drawn(const PagedReport::Chart& chart) {
    QImage image(1200, 460, QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter painter(&image);
    painter.setRenderHint(QPainter::Antialiasing);
    chart(painter, image.size());
    return image;
}

std::map<std::string, QImage> drawPictures(const Project& p, const Variant& v, render::Renderer& renderer,
                                           Progress& progress) {
    std::map<std::string, QImage> pictures;
    const auto surface = p.surface(v.recipe);
    const auto check = p.check(v.recipe);
    // hotspots with what their tests have found
    FindingsResult findings;
    findings.findings = findingsOf(p, v.recipe);
    constexpr int width = 1200, height = 760;
    auto draw = [&](const std::string& name, const SceneOptions& options, const render::Camera* camera = nullptr,
                    const AnalysisResult* analysis = nullptr) {
        progress.step("Drawing the pictures");
        SceneInputs inputs{surface.get(), check.get(), &findings, nullptr, nullptr, nullptr, p.rebuild(v.recipe).get()};
        inputs.analysis = analysis;
        const auto scene = makeScene(p, v.recipe, options, inputs);
        pictures[name] = render::picture(renderer, scene, camera ? *camera : render::fit(scene->bounds, width, height),
                                         width, height);
    };
    // the places of the hotspots, close up
    auto closeUps = [&] {
        SceneOptions o;
        o.show = Show::check;
        o.quantity = Quantity::vonMises;
        o.meshLines = true;
        int shown = 0;
        for (const Finding& f : findingsOf(p, v.recipe)) {
            if (f.kind != Finding::Kind::hotspot || ++shown > 6) continue;
            o.loadCase = -1;
            for (std::size_t c = 0; c < check->cases.size(); ++c)
                if (check->cases[c].name == f.caseName) o.loadCase = static_cast<int>(c);
            o.selectedFinding = f.id;
            render::Camera camera = towards(check->mesh, f.position, 14 * v.recipe.elementSize);
            draw("finding-" + f.id, o, &camera);
        }
    };
    for (const auto& [name, chart] : chartsOf(p, v)) pictures[name] = drawn(chart);
    SceneOptions o;
    o.show = Show::field;
    draw("field", o);
    if (surface) {
        o.show = Show::surface;
        draw("surface", o);
    }
    if (p.rebuild(v.recipe)) {
        o.show = Show::solid;
        draw("solid", o);
    }
    if (check) {
        o.show = Show::check;
        o.quantity = Quantity::safetyFactor;
        draw("safety-factor", o);
        o.quantity = Quantity::vonMises;
        for (std::size_t c = 0; c < check->cases.size(); ++c) {
            o.loadCase = static_cast<int>(c);
            o.deformation = automaticDeformation(*check, o.loadCase);
            draw("case-" + std::to_string(c + 1), o);
            for (const NamedView& view : p.views) {
                render::Camera camera;
                camera.focus = view.focus;
                camera.direction = view.direction;
                camera.up = view.up;
                camera.height = view.height;
                draw(viewPicture(view, c), o, &camera);
            }
        }
        closeUps();
        for (const AnalysisChoice& choice : askedAnalyses(p.partOf(v.recipe), v.recipe)) {
            const auto found = p.analysis(v.recipe, choice.kind);
            if (!found || found->shapes.empty()) continue;
            SceneOptions shape;
            shape.show = Show::analysis;
            shape.analysis = choice.kind;
            draw("analysis-" + choice.kind, shape, nullptr, found.get());
        }
    }
    return pictures;
}

/// Copies a file that the part names into inputs/, under a name of its own, and returns the new path.
std::string copied(const std::string& from, const std::string& draft, std::map<std::string, std::string>& done) {
    const auto known = done.find(from);
    if (known != done.end()) return known->second;
    std::string to = "inputs/" + fs::path(from).filename().string();
    for (int n = 2; fs::exists(draft + "/" + to); ++n)
        to = "inputs/" + std::to_string(n) + "-" + fs::path(from).filename().string();
    fs::create_directories(draft + "/inputs");
    std::error_code failed;
    fs::copy_file(from, draft + "/" + to, failed);
    if (failed)
        throw InputError(ErrorDetail{"An input of the part cannot be copied to the release.",
                                     from,
                                     {},
                                     "the file that the part names",
                                     failed.message()});
    return done[from] = to;
}

/// The part file and the recipe with all that they name beside them, so that the folder can be checked on its own.
void writeInputs(const Project& project, const Variant& variant, const std::string& draft) {
    auto document = nlohmann::ordered_json::parse(project.part.text);
    std::map<std::string, std::string> done;
    Recipe recipe = variant.recipe;
    for (solid::Feature& f : recipe.rebuild.features)
        if (!f.path.empty() && f.interface.empty())
            f.path = copied((fs::path(project.part.path).parent_path() / f.path).string(), draft, done);
    auto at = [&](nlohmann::ordered_json& j, const char* key, const std::string& source) {
        if (j.is_object() && j.contains(key)) j[key] = copied(source, draft, done);
    };
    const Part& p = project.part;
    if (!p.fields.empty()) at(document["field"], "file", p.fields[0].source.path);
    if (const auto made = project.made(recipe)) {
        fs::create_directories(draft + "/inputs");
        writeMadeField(*made, draft + "/inputs");
    }
    if (document.contains("more_fields"))
        for (std::size_t i = 0; i < document["more_fields"].size() && i + 1 < p.fields.size(); ++i)
            at(document["more_fields"][i], "file", p.fields[i + 1].source.path);
    if (p.original) at(document["original"], "body", p.original->path);
    if (p.designBody && document.contains("design_space")) at(document["design_space"], "body", p.designBody->path);
    if (document.contains("keep_outs"))
        for (std::size_t i = 0; i < document["keep_outs"].size() && i < p.keepOuts.size(); ++i)
            if (p.keepOuts[i].kind == KeepOut::Kind::body)
                at(document["keep_outs"][i], "body", p.keepOuts[i].body.path);
    exchange::writeText(draft + "/part.json", document.dump(2) + "\n");
    const nlohmann::json text = {
        {"format", "escultura-recipe"}, {"version", 1}, {"variant", variant.name}, {"recipe", recipeJson(recipe)}};
    exchange::writeText(draft + "/recipe.json", text.dump(2) + "\n");
}

nlohmann::json versions() {
    return {{"escultura", ESCULTURA_VERSION},
            {"qt", qVersion()},
            {"eigen", std::to_string(EIGEN_WORLD_VERSION) + "." + std::to_string(EIGEN_MAJOR_VERSION) + "." +
                          std::to_string(EIGEN_MINOR_VERSION)}};
}

}  // namespace

std::vector<exchange::NodalArray> resultArrays(const Part& part, const CheckResult& c) {
    std::vector<exchange::NodalArray> arrays;
    for (const CaseResult& x : c.cases) {
        arrays.push_back(
            {"displacement [mm] " + x.name, 3, [&x](std::size_t n, int k) { return x.displacement[n][k]; }});
        arrays.push_back({"stress [MPa] " + x.name, 6, [&x](std::size_t n, int k) { return x.stress[n][k]; }});
        arrays.push_back({"von Mises [MPa] " + x.name, 1, [&x](std::size_t n, int) { return x.vonMises[n]; }});
    }
    const double yield = elastic::strength(part.material);
    arrays.push_back({"von Mises [MPa] worst", 1, [&c](std::size_t n, int) { return c.envelope.stress[n]; }});
    arrays.push_back({"safety factor worst", 1, [&c, yield](std::size_t n, int) {
                          return std::min(assess::safetyFactor(yield, c.envelope.stress[n]), 999.0);
                      }});
    arrays.push_back(
        {"governing case", 1, [&c](std::size_t n, int) { return static_cast<double>(c.envelope.governingCase[n]); }});
    return arrays;
}

std::string withoutPages(std::string html) {
    const std::string mark = pageMark;
    for (auto at = html.find(mark); at != std::string::npos; at = html.find(mark, at)) {
        auto end = at + mark.size();
        while (end < html.size() && std::isdigit(static_cast<unsigned char>(html[end]))) ++end;
        html.erase(at, end - at);
    }
    return html;
}

/// Surface, solid and results in open formats. @param open  nothing stands in the way of the release
void writeBodies(const Project& project, const Variant& variant, const std::string& draft, bool open,
                 Progress& progress) {
    const Part& part = project.partOf(variant.recipe);
    if (const auto s = project.surface(variant.recipe)) {
        exchange::writeStl(draft + "/surface.stl", s->mesh, part.name);
        exchange::write3mf(draft + "/surface.3mf", s->mesh, {part.name, {}});
    }
    if (const auto b = project.rebuild(variant.recipe)) {
        // the slow gate, only when the part is about to be released
        if (variant.recipe.check.rebuilt && open)
            for (const auto& problem : solid::selfInterference(*b->solid.brep, progress))
                throw InputError(ErrorDetail{
                    "The solid must not be released.", {}, "self-intersection check", "nothing to report", problem});
        for (const auto& differs : writeCheckedStep(draft + "/solid.step", part, *b))
            throw InputError(ErrorDetail{
                "The STEP file does not hold the solid.", "solid.step", {}, "the same body when read back", differs});
        exchange::writeStl(draft + "/solid.stl", b->solid.mesh, part.name);
        exchange::write3mf(draft + "/solid.3mf", b->solid.mesh, {part.name, {}});
    }
    if (const auto c = project.check(variant.recipe))
        exchange::writeVtu(draft + "/results.vtu", c->mesh, resultArrays(part, *c));
}

/// The manifest of what the draft holds, and its text.
std::string writeManifest(const Project& project, const Variant& variant, const std::string& draft, bool open,
                          const Release* release) {
    nlohmann::json manifest = {{"format", "escultura-release"},
                               {"version", 1},
                               {"part", project.partOf(variant.recipe).name},
                               {"variant", variant.name},
                               {"open_for_release", open},
                               {"versions", versions()},
                               {"files", nlohmann::json::array()}};
    if (release)
        manifest["release"] = {{"number", release->number},
                               {"name", release->name},
                               {"role", release->role},
                               {"date", release->date},
                               {"remark", release->remark}};
    std::vector<std::string> files;
    for (const auto& entry : fs::recursive_directory_iterator(draft))
        if (entry.is_regular_file()) files.push_back(fs::relative(entry.path(), draft).string());
    std::sort(files.begin(), files.end());
    for (const auto& f : files)
        manifest["files"].push_back(
            {{"path", f}, {"bytes", fs::file_size(draft + "/" + f)}, {"sha256", sha256OfFile(draft + "/" + f)}});
    manifest["sum"] = sha256(manifest.dump());
    const std::string text = manifest.dump(2) + "\n";
    exchange::writeText(draft + "/manifest.json", text);
    return text;
}

void writeRelease(const Project& project, const Variant& variant, const std::vector<Timing>& timings,
                  render::Renderer& renderer, const std::string& folder, Progress& progress, const Release* release,
                  bool replace, const std::string& secretKey) {
    const bool open = releaseBlockers(project, variant).empty();
    ReleaseDraft target(folder, replace);
    const std::string& draft = target.path();
    try {
        fs::create_directories(draft + "/pictures");
        const auto pictures = drawPictures(project, variant, renderer, progress);
        std::vector<std::string> names;
        for (const auto& [name, image] : pictures) {
            names.push_back(name);
            QBuffer bytes;
            if (!bytes.open(QIODevice::WriteOnly) || !image.save(&bytes, "PNG"))
                throw InputError(ErrorDetail{"A picture cannot be written.", folder, name, "a picture", "none"});
            exchange::writeText(draft + "/pictures/" + name + ".png", bytes.data().toStdString());
        }
        progress.step("Writing the files");
        writeInputs(project, variant, draft);
        writeBodies(project, variant, draft, open, progress);
        exchange::writeText(draft + "/summary.json", summaryJson(project, variant, timings));
        const std::string html = reportHtml(project, variant, names, release);
        exchange::writeText(draft + "/report.html", withoutPages(html));
        progress.step("Writing the report");
        writePdf(draft + "/report.pdf", html, pictures, chartsOf(project, variant),
                 headerOf(project, variant, release));
        const std::string text = writeManifest(project, variant, draft, open, release);
        if (!secretKey.empty()) {
            exchange::writeText(draft + "/manifest.sig", signatureOf(text, secretKey) + "\n");
            exchange::writeText(draft + "/signer.pub", openKeyOf(secretKey));
        }
        progress.check();
        target.publish();
    } catch (const fs::filesystem_error& e) {
        throw InputError(ErrorDetail{"The release folder cannot be written.",
                                     folder,
                                     {},
                                     "a folder that can be written, with space left",
                                     e.code().message()});
    }
}

std::vector<QImage> reportPages(const Project& project, const Variant& variant, render::Renderer& renderer,
                                Progress& progress, const Release* release) {
    const auto pictures = drawPictures(project, variant, renderer, progress);
    std::vector<std::string> names;
    for (const auto& [name, image] : pictures) names.push_back(name);
    const std::string html = reportHtml(project, variant, names, release);
    constexpr int resolution = 120, width = 992, height = 1403;  // A4
    constexpr int side = 113, top = 66, bottom = 76;             // 24, 14 and 16 mm
    QImage paper(width, height, QImage::Format_RGB32);
    paper.setDotsPerMeterX(static_cast<int>(std::lround(resolution / 0.0254)));
    paper.setDotsPerMeterY(paper.dotsPerMeterX());
    PagedReport report(html, pictures, chartsOf(project, variant), headerOf(project, variant, release), &paper,
                       width - 2 * side, height - top - bottom, resolution);
    std::vector<QImage> pages;
    for (int page = 0; page < report.pages(); ++page) {
        paper.fill(Qt::white);
        QPainter painter(&paper);
        painter.setRenderHint(QPainter::SmoothPixmapTransform);
        painter.translate(side, top);
        report.paint(painter, page);
        painter.end();
        pages.push_back(paper.copy());
    }
    return pages;
}

}  // namespace escultura::report

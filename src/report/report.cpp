#include "report/report.hpp"

#include <QAbstractTextDocumentLayout>
#include <QBuffer>
#include <QImage>
#include <QPageSize>
#include <QPainter>
#include <QPdfWriter>
#include <QTextDocument>
#include <QUrl>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <limits>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/text.hpp"
#include "exchange/writers.hpp"
#include "render/overlay.hpp"
#include "report/part_scene.hpp"

namespace escultura::report {
namespace {

using namespace escultura::project;
namespace fs = std::filesystem;

std::string num(double v, int digits = 4) {
    return formatNumber(v, digits);
}

std::string vec(const Vec3& v, int digits = 4) {
    auto part = [&](double x) {
        return std::abs(x) < 1e-6 * v.cwiseAbs().maxCoeff() ? std::string("0") : num(x, digits);
    };
    return part(v[0]) + ", " + part(v[1]) + ", " + part(v[2]);
}

class Html {
  public:
    void heading(int number, const std::string& title) {
        out_ += "<h2>" + std::to_string(number) + "&nbsp; " + escapedMarkup(title) + "</h2>\n";
    }
    void paragraph(const std::string& text) { out_ += "<p>" + escapedMarkup(text) + "</p>\n"; }
    void table(const std::vector<std::string>& head, const std::vector<std::vector<std::string>>& rows) {
        out_ += "<table cellspacing=\"0\" cellpadding=\"4\" width=\"100%\"><thead><tr>";
        for (const auto& h : head) out_ += "<th align=\"left\">" + escapedMarkup(h) + "</th>";
        out_ += "</tr></thead>\n";
        for (const auto& row : rows) {
            out_ += "<tr>";
            for (const auto& cell : row) out_ += "<td>" + escapedMarkup(cell) + "</td>";
            out_ += "</tr>\n";
        }
        out_ += "</table>\n";
    }
    void picture(const std::string& name, const std::string& caption) {
        out_ += "<p class=\"picture\"><img src=\"pictures/" + name + ".png\" width=\"640\" alt=\"" +
                escapedMarkup(caption) + "\"/><br/><small>" + escapedMarkup(caption) + "</small></p>\n";
    }
    void raw(const std::string& html) { out_ += html; }
    const std::string& text() const { return out_; }

  private:
    std::string out_;
};

void reason(Html& h, const Variant& v, Stage stage) {
    const auto at = v.reasons.find(static_cast<int>(stage));
    if (at != v.reasons.end() && !at->second.empty()) h.paragraph("Reason: " + at->second);
}

bool has(const std::vector<std::string>& pictures, const std::string& name) {
    return std::find(pictures.begin(), pictures.end(), name) != pictures.end();
}

void dutyChapter(Html& h, const Project& p, const Variant& v) {
    h.heading(1, "Duty");
    if (!p.part.description.empty()) h.paragraph(p.part.description);
    const auto& m = p.part.material;
    h.table({"Material", "Young's modulus", "Poisson's ratio", "Density", "Strength", "Source of the strength"},
            {{m.name, num(m.youngsModulus, 6) + " MPa", num(m.poissonsRatio), num(m.density * 1e9) + " kg/m³",
              num(elastic::strength(m)) + " MPa" + (p.part.isBrittle() ? " (ultimate, brittle rule)" : ""),
              m.yieldSource}});
    if (!p.part.optimisedWith.empty())
        h.paragraph("The optimisation used another material: " + p.part.optimisedWith + ".");
    std::vector<std::vector<std::string>> rows;
    for (const Interface& i : p.part.interfaces)
        rows.push_back({i.name,
                        i.kind == Interface::Kind::bore   ? "bore"
                        : i.kind == Interface::Kind::boss ? "boss"
                                                          : "pad",
                        vec(i.origin), vec(i.axis), num(i.length), i.boreDiameter > 0 ? num(i.boreDiameter) : "none",
                        i.ringDiameter > 0 ? num(i.ringDiameter) : "none"});
    h.table({"Interface", "Kind", "Start, mm", "Axis", "Length, mm", "Bore, mm", "Ring, mm"}, rows);
    rows.clear();
    for (const LoadCase& c : p.part.loadCases)
        for (const Load& l : p.part.loadsOf(c))
            rows.push_back({c.name + (c.use == LoadCase::Use::off ? " (off)" : ""), words(l.kind),
                            l.onFaces() ? listed(l.on.interfaces) + " (" + l.on.face + ")" : "whole part", describe(l),
                            l.frame.empty() ? "global" : l.frame, num(c.factor),
                            l.on.interfaces.size() < 2 ? ""
                            : l.sharedTotal            ? "total, shared"
                                                       : "each"});
    h.table({"Load case", "Kind", "Acts on", "Load", "Frame", "Factor", "Share"}, rows);
    rows.clear();
    for (const Combination& c : p.part.combinations) rows.push_back({c.name, combinationText(c), c.on ? "on" : "off"});
    if (!rows.empty()) h.table({"Combination", "Sum", "Use"}, rows);
    rows.clear();
    for (const Support& s : p.part.supports)
        rows.push_back({name(s.kind), listed(s.on.interfaces) + " (" + s.on.face + ")", describe(s)});
    h.table({"Support", "Acts on", "Held"}, rows);
    reason(h, v, Stage::duty);
}

void geometryChapters(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(2, "Field");
    const auto field = p.field(v.recipe);
    const ThresholdFigures t = thresholdFigures(p.part, *field, v.recipe);
    std::string cut;
    for (const auto& i : t.cutOff) cut += (cut.empty() ? "" : ", ") + i;
    h.paragraph("Source: " + field->field.source + ".");
    h.paragraph("Density field of " + std::to_string(field->field.cells[0]) + " × " +
                std::to_string(field->field.cells[1]) + " × " + std::to_string(field->field.cells[2]) + " cells of " +
                vec(field->field.spacing, 3) + " mm.");
    h.table({"Threshold", "Volume kept", "Share of the design space", "Mass", "Grey share", "Pieces",
             "Interfaces connected", "Largest threshold that connects all"},
            {{num(t.threshold), num(t.volume / 1000) + " cm³", num(100 * t.share, 3) + " %", num(t.mass, 3) + " kg",
              num(100 * t.grey, 3) + " %", std::to_string(t.pieces),
              std::to_string(t.connected.size()) + " of " + std::to_string(t.connected.size() + t.cutOff.size()) +
                  (cut.empty() ? "" : "; cut off: " + cut),
              field->largestConnectingThreshold >= 0 ? num(field->largestConnectingThreshold) : "none"}});
    reason(h, v, Stage::field);
    if (has(pictures, "field")) h.picture("field", "Cells kept at the threshold");
    h.heading(3, "Surface");
    const auto s = p.surface(v.recipe);
    if (!s) {
        h.paragraph("Out of date or not built yet.");
        return;
    }
    h.table({"Smoothing", "Volume", "Asked volume", "Mass", "Triangles", "Pieces", "Handles", "Closed", "Deviation RMS",
             "Deviation max"},
            {{num(v.recipe.smoothing) + " mm", num(s->measures.volume / 1000, 5) + " cm³",
              num(s->askedVolume / 1000, 5) + " cm³", num(s->measures.volume * p.part.material.density) + " kg",
              std::to_string(s->mesh.triangle.size()), std::to_string(s->measures.pieces),
              std::to_string(s->measures.genus), s->measures.watertight ? "yes" : "no", num(s->deviationRms, 3) + " mm",
              num(s->deviationMax, 3) + " mm"}});
    h.paragraph(
        "Deviation is measured on the free surface more than two cells away from interfaces and empty volumes, where "
        "the shape follows the field.");
    std::vector<std::vector<std::string>> rows;
    for (const BoreFigure& b : s->bores)
        rows.push_back({b.interface, num(b.nominal, 5) + " mm", num(b.measured, 5) + " mm", num(b.error, 2) + " mm"});
    if (!rows.empty()) h.table({"Bore", "Nominal", "Measured", "Largest error"}, rows);
    reason(h, v, Stage::surface);
    if (has(pictures, "surface")) h.picture("surface", "Surface with interfaces");
    h.heading(4, "Rebuild");
    const auto cage = p.cage(v.recipe);
    const auto solid = p.rebuild(v.recipe);
    if (cage) {
        const auto& d = cage->deviation;
        h.table({"Cage faces", "Mean edge", "Pieces, handles", "Deviation RMS", "Largest", "From the surface back",
                 "At interfaces", "Folds"},
                {{std::to_string(cage->cage.face.size()), num(d.edge) + " mm",
                  std::to_string(cage->report.pieces) + ", " + std::to_string(cage->report.genus),
                  num(d.rms, 2) + " mm", num(d.largest, 2) + " mm", num(d.backLargest, 2) + " mm",
                  num(d.zoneLargest, 2) + " mm", std::to_string(cage->folded.size())}});
        for (const auto& n : cage->notes) h.paragraph(n);
        rows.clear();
        for (const CageStep& step : v.recipe.rebuild.steps) {
            if (!step.on) continue;
            const Member& m = step.member;
            const Thickening& t = step.thickening;
            rows.push_back({step.name, name(step.kind),
                            step.kind == CageStep::Kind::member
                                ? vec(m.from, 4) + " to " + vec(m.to, 4) + " mm, radii " + num(m.radiusFrom) + " and " +
                                      num(m.radiusTo) + " mm, blend " + num(m.blend) + " mm"
                            : step.kind == CageStep::Kind::thickening
                                ? num(t.amount) + " mm around " + vec(t.centre, 4) + " mm, radius " + num(t.radius) +
                                      " mm, edge " + num(t.edge) + " mm"
                                : "all vertices kept"});
        }
        if (!rows.empty()) h.table({"Change of the cage", "Kind", "Figures"}, rows);
    }
    if (solid) {
        const auto& f = solid->solid.solid;
        h.table({"Volume", "Mass", "Faces", "Handles", "Valid", "Closed", "Patches to limit surface",
                 "Largest kink between patches"},
                {{num(f.volume / 1000, 5) + " cm³", num(solid->mass, 3) + " kg", std::to_string(f.faces),
                  std::to_string(solid->genus), f.valid ? "yes" : "no", f.closed ? "yes" : "no",
                  num(100 * std::abs(solid->solid.free.volume / solid->limit.volume - 1), 2) + " % of volume",
                  num(solid->irregularJump, 2) + "°"}});
        rows.clear();
        for (const auto& x : solid->features) {
            std::string state = x.on ? "not built" : "off";
            for (const auto& o : solid->solid.features)
                if (o.name == x.name)
                    state = o.built ? (o.problem.empty() ? "built" : o.problem) : "failed: " + o.problem;
            rows.push_back({x.name, solid::name(x.kind), solid::describe(x), state});
        }
        if (!rows.empty()) h.table({"Feature", "Kind", "Figures", "State"}, rows);
        for (const auto& problem : solid->problems) h.paragraph(problem);
    } else {
        h.paragraph(v.recipe.check.rebuilt
                        ? "The solid is out of date or not rebuilt in this session."
                        : "The check runs on the implicit solid of the surface with its exact interfaces.");
    }
    if (has(pictures, "solid")) h.picture("solid", "Rebuilt solid");
    reason(h, v, Stage::rebuild);
}

void checkChapters(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(5, "Check");
    const auto c = p.check(v.recipe);
    if (!c) {
        h.paragraph("Out of date or not run yet.");
        return;
    }
    h.table(
        {"Elements", "Nodes", "Unknowns", "Dihedral angles", "Scaled Jacobian, lowest", "Volume"},
        {{std::to_string(c->mesh.tet.size()) + " quadratic tetrahedra", std::to_string(c->mesh.position.size()),
          std::to_string(c->unknowns), num(c->quality.minDihedral, 3) + "° to " + num(c->quality.maxDihedral, 4) + "°",
          num(c->quality.minScaledJacobian, 3), num(c->quality.volume / 1000, 5) + " cm³"}});
    h.paragraph("Solver: " + c->solver + ", " + num(c->solverMemory / 1e9, 2) + " GB. Level: " + name(c->level) + ". " +
                std::to_string(c->quality.warned) + " poor and " + std::to_string(c->quality.failed) +
                " bad elements; largest aspect ratio " + num(c->quality.maxAspectRatio, 3) + ".");
    if (!c->passes.empty()) {
        std::vector<std::vector<std::string>> steps;
        for (const ConvergencePass& pass : c->passes) {
            double factor = std::numeric_limits<double>::infinity(), moved = 0;
            for (double f : pass.minSafetyFactor) factor = std::min(factor, f);
            for (double d : pass.maxDisplacement) moved = std::max(moved, d);
            steps.push_back({std::to_string(pass.elements), std::to_string(pass.unknowns), num(factor),
                             num(moved) + " mm", num(100 * pass.energyError, 3) + " %",
                             pass.change > 0 ? num(100 * pass.change, 3) + " %" : "first pass"});
        }
        h.table({"Elements", "Unknowns", "Smallest safety factor", "Largest displacement", "Energy error estimate",
                 "Largest change in any case"},
                steps);
        h.paragraph(c->converged ? "Converged: the last pass changed no case by more than the chosen share."
                                 : "Not converged within the passes allowed.");
    }
    std::vector<std::vector<std::string>> rows;
    for (const CaseResult& x : c->cases)
        rows.push_back({x.name, num(x.minSafetyFactor, 3), num(x.maxVonMises) + " MPa", num(x.maxRawVonMises) + " MPa",
                        num(x.maxDisplacement) + " mm", num(100 * x.energyError, 3) + " %"});
    h.table({"Load case", "Safety factor", "von Mises, recovered", "von Mises, integration points", "Displacement",
             "Energy error estimate"},
            rows);
    rows.clear();
    for (const CaseResult& x : c->cases) {
        char error[32];
        std::snprintf(error, sizeof error, "%.1e", x.equilibriumError);
        rows.push_back({x.name, vec(x.meant), vec(x.applied), x.appliedAsMeant ? "yes" : "no", vec(x.reaction), error});
    }
    h.table({"Load case", "Load meant, N", "Applied, N", "As meant", "Reaction, N", "Equilibrium error"}, rows);
    rows.clear();
    for (const CaseResult& x : c->cases)
        for (const auto& r : x.reactions)
            rows.push_back({x.name, r.interface, vec(r.force), num(r.force.norm()), vec(r.moment / 1000)});
    h.table({"Load case", "Interface", "Reaction, N", "Size, N", "Moment about its middle, N m"}, rows);
    h.paragraph("Worst of all cases: safety factor " + num(c->minSafetyFactor, 3) + ", von Mises " +
                num(c->envelope.maxStress) + " MPa, governed by " + c->governingCase + ".");
    reason(h, v, Stage::check);
    if (has(pictures, "safety-factor")) h.picture("safety-factor", "Safety factor, worst of all cases");
    for (std::size_t i = 0; i < c->cases.size(); ++i) {
        const std::string name = "case-" + std::to_string(i + 1);
        if (has(pictures, name)) h.picture(name, "von Mises stress, " + c->cases[i].name);
    }
    h.heading(6, "Findings");
    const auto f = p.findings(v.recipe);
    rows.clear();
    if (f)
        for (const Finding& x : f->findings) {
            const Disposition* d = dispositionOf(p, v, x.id);
            rows.push_back({x.id, x.place, num(x.peak) + " MPa", num(x.safetyFactor, 3), x.caseName, vec(x.position),
                            x.nearestInterface + ", " + num(x.distance, 3) + " mm",
                            d ? d->decision + ": " + d->reason + " (" + d->by + ", " + d->date + ")" : "open"});
        }
    if (rows.empty())
        h.paragraph(f ? "No hotspot above the sensitivity." : "Out of date or not looked for yet.");
    else
        h.table({"Id", "Class", "Peak", "Safety factor", "Load case", "Place, mm", "Nearest interface", "Disposition"},
                rows);
    reason(h, v, Stage::findings);
}

void releaseChapter(Html& h, const Project& p, const Variant& v) {
    h.heading(7, "Release");
    std::vector<std::vector<std::string>> rows;
    for (const RequirementState& s : requirementStates(p, v.recipe, nullptr, nullptr))
        rows.push_back({s.name, (s.atLeast ? "at least " : "at most ") + num(s.limit) + " " + s.unit,
                        std::isnan(s.value) ? "n/a" : num(s.value) + " " + s.unit, word(s.state), s.source});
    h.table({"Requirement", "Limit", "Value", "State", "Source"}, rows);
    const auto blockers = releaseBlockers(p, v);
    if (blockers.empty()) {
        h.paragraph(
            "Open for release: every requirement is met with fresh results and every finding has its disposition.");
    } else {
        h.paragraph("Not open for release:");
        h.raw("<ul>");
        for (const auto& b : blockers) h.raw("<li>" + escapedMarkup(b) + "</li>");
        h.raw("</ul>\n");
    }
    reason(h, v, Stage::release);
}

const char* styleSheet =
    "body{font-family:Inter,sans-serif;font-size:10pt;color:#2B2A27;}"
    "h1{font-size:20pt;margin-bottom:2px;} h2{font-size:13pt;color:#B4532A;margin-top:18px;}"
    "table{margin-top:6px;margin-bottom:8px;border-collapse:collapse;} "
    "th{color:#6E695F;font-weight:normal;border-bottom:1px solid #DAD2C3;font-size:8pt;}"
    "td{border-bottom:1px solid #EBE4D6;font-size:8.5pt;} small{color:#6E695F;}";

void writePdf(const std::string& path, const std::string& html, const std::map<std::string, QImage>& pictures,
              const std::string& footer) {
    QPdfWriter writer(QString::fromStdString(path));
    writer.setPageSize(QPageSize(QPageSize::A4));
    writer.setPageMargins(QMarginsF(16, 16, 16, 18), QPageLayout::Millimeter);
    writer.setResolution(144);
    writer.setTitle(QString::fromStdString(footer));
    writer.setCreator("Escultura");
    QTextDocument document;
    document.documentLayout()->setPaintDevice(&writer);
    for (const auto& [name, image] : pictures)
        document.addResource(QTextDocument::ImageResource, QUrl(QString::fromStdString("pictures/" + name + ".png")),
                             image);
    QString text = QString::fromStdString(html);
    // the document scales CSS pixels (96 an inch) to the writer's resolution; two pictures fit a page
    const int pictureWidth = static_cast<int>(0.86 * writer.width() * 96 / writer.resolution());
    text.replace("width=\"640\"", "width=\"" + QString::number(pictureWidth) + "\"");
    document.setHtml(text);
    const double footerHeight = 40;
    document.setPageSize(QSizeF(writer.width(), writer.height() - footerHeight));
    QPainter painter(&writer);
    if (!painter.isActive())
        throw InputError(
            ErrorDetail{"The report cannot be written.", path, {}, "a folder that can be written", "the write failed"});
    const int pages = document.pageCount();
    for (int page = 0; page < pages; ++page) {
        if (page) writer.newPage();
        painter.save();
        painter.translate(0, -page * document.pageSize().height());
        document.drawContents(&painter, QRectF(0, page * document.pageSize().height(), document.pageSize().width(),
                                               document.pageSize().height()));
        painter.restore();
        QFont font("Inter");
        font.setPixelSize(15);
        painter.setFont(font);
        painter.setPen(QColor(0x6E, 0x69, 0x5F));
        const QRectF line(0, writer.height() - footerHeight + 12, writer.width(), footerHeight - 12);
        painter.drawText(line, Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString(footer));
        painter.drawText(line, Qt::AlignRight | Qt::AlignVCenter, QString("page %1 of %2").arg(page + 1).arg(pages));
    }
}

std::map<std::string, QImage> drawPictures(const Project& p, const Variant& v, render::Renderer& renderer,
                                           Progress& progress) {
    std::map<std::string, QImage> pictures;
    const auto surface = p.surface(v.recipe);
    const auto check = p.check(v.recipe);
    const auto findings = p.findings(v.recipe);
    constexpr int width = 1200, height = 760;
    auto draw = [&](const std::string& name, const SceneOptions& options) {
        progress.step("Drawing the pictures");
        const auto scene = makeScene(
            p, v.recipe, options,
            {surface.get(), check.get(), findings.get(), nullptr, nullptr, nullptr, p.rebuild(v.recipe).get()});
        pictures[name] = render::picture(renderer, scene, render::fit(scene->bounds, width, height), width, height);
    };
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
        }
    }
    return pictures;
}

std::vector<exchange::NodalArray> resultArrays(const Project& p, const CheckResult& c) {
    std::vector<exchange::NodalArray> arrays;
    for (const CaseResult& x : c.cases) {
        arrays.push_back(
            {"displacement [mm] " + x.name, 3, [&x](std::size_t n, int k) { return x.displacement[n][k]; }});
        arrays.push_back({"stress [MPa] " + x.name, 6, [&x](std::size_t n, int k) { return x.stress[n][k]; }});
        arrays.push_back({"von Mises [MPa] " + x.name, 1, [&x](std::size_t n, int) { return x.vonMises[n]; }});
    }
    const double yield = elastic::strength(p.part.material);
    arrays.push_back({"von Mises [MPa] worst", 1, [&c](std::size_t n, int) { return c.envelope.stress[n]; }});
    arrays.push_back({"safety factor worst", 1, [&c, yield](std::size_t n, int) {
                          return std::min(assess::safetyFactor(yield, c.envelope.stress[n]), 999.0);
                      }});
    arrays.push_back(
        {"governing case", 1, [&c](std::size_t n, int) { return static_cast<double>(c.envelope.governingCase[n]); }});
    return arrays;
}

}  // namespace

std::string reportHtml(const Project& project, const Variant& variant, const std::vector<std::string>& pictures) {
    Html h;
    h.raw("<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"/><title>" +
          escapedMarkup(project.part.name) + "</title><style>" + styleSheet + "</style></head><body>\n");
    h.raw("<h1>" + escapedMarkup(project.part.name) + "</h1><p>Static stress check, variant " +
          escapedMarkup(variant.name) + ". Written by Escultura.</p>\n");
    dutyChapter(h, project, variant);
    geometryChapters(h, project, variant, pictures);
    checkChapters(h, project, variant, pictures);
    releaseChapter(h, project, variant);
    h.raw("</body></html>\n");
    return h.text();
}

void requireWritableFolder(const std::string& folder) {
    std::error_code failed;
    fs::create_directories(folder, failed);
    const std::string probe = folder + "/.probe";
    const bool ok = !failed && static_cast<bool>(std::ofstream(probe) << "x");
    std::error_code ignored;
    fs::remove(probe, ignored);
    if (!ok)
        throw InputError(ErrorDetail{"The output folder cannot be written.",
                                     folder,
                                     {},
                                     "a folder that can be made and written",
                                     failed ? failed.message() : "no permission"});
}

void writeRelease(const Project& project, const Variant& variant, const std::vector<Timing>& timings,
                  render::Renderer& renderer, const std::string& folder, Progress& progress) {
    requireWritableFolder(folder);
    const std::string draft = folder + "/.draft";
    std::error_code ignored;
    fs::remove_all(draft, ignored);
    try {
        fs::create_directories(draft + "/pictures");
        const auto pictures = drawPictures(project, variant, renderer, progress);
        std::vector<std::string> names;
        for (const auto& [name, image] : pictures) {
            names.push_back(name);
            if (!image.save(QString::fromStdString(draft + "/pictures/" + name + ".png")))
                throw InputError(
                    ErrorDetail{"A picture cannot be written.", folder, name, "space left", "the write failed"});
        }
        progress.step("Writing the files");
        exchange::writeText(draft + "/part.json", project.part.text);
        if (const auto s = project.surface(variant.recipe))
            exchange::writeStl(draft + "/surface.stl", s->mesh, project.part.name);
        if (const auto b = project.rebuild(variant.recipe)) {
            // the slow gate, only when the part is about to be released
            if (variant.recipe.check.rebuilt && releaseBlockers(project, variant).empty())
                for (const auto& problem : solid::selfInterference(*b->solid.brep, progress))
                    throw InputError(ErrorDetail{"The solid must not be released.",
                                                 {},
                                                 "self-intersection check",
                                                 "nothing to report",
                                                 problem});
            for (const auto& differs : writeCheckedStep(draft + "/solid.step", project.part, *b))
                throw InputError(ErrorDetail{"The STEP file does not hold the solid.",
                                             "solid.step",
                                             {},
                                             "the same body when read back",
                                             differs});
            exchange::writeStl(draft + "/solid.stl", b->solid.mesh, project.part.name);
        }
        if (const auto c = project.check(variant.recipe))
            exchange::writeVtu(draft + "/results.vtu", c->mesh, resultArrays(project, *c));
        exchange::writeText(draft + "/summary.json", summaryJson(project, variant, timings));
        const std::string html = reportHtml(project, variant, names);
        exchange::writeText(draft + "/report.html", html);
        progress.step("Writing the report");
        writePdf(draft + "/report.pdf", html, pictures, project.part.name + ", variant " + variant.name);
        nlohmann::json manifest = {{"format", "escultura-release"},
                                   {"version", 1},
                                   {"part", project.part.name},
                                   {"variant", variant.name},
                                   {"open_for_release", releaseBlockers(project, variant).empty()},
                                   {"files", nlohmann::json::array()}};
        std::vector<std::string> files;
        for (const auto& entry : fs::recursive_directory_iterator(draft))
            if (entry.is_regular_file()) files.push_back(fs::relative(entry.path(), draft).string());
        std::sort(files.begin(), files.end());
        for (const auto& f : files)
            manifest["files"].push_back(
                {{"path", f}, {"bytes", fs::file_size(draft + "/" + f)}, {"sha256", sha256OfFile(draft + "/" + f)}});
        exchange::writeText(draft + "/manifest.json", manifest.dump(2) + "\n");
        files.push_back("manifest.json");
        progress.check();
        fs::create_directories(folder + "/pictures");
        for (const auto& f : files) fs::rename(draft + "/" + f, folder + "/" + f);
        fs::remove_all(draft);
    } catch (const fs::filesystem_error& e) {
        fs::remove_all(draft, ignored);
        throw InputError(ErrorDetail{"The release folder cannot be written.",
                                     folder,
                                     {},
                                     "a folder that can be written, with space left",
                                     e.code().message()});
    } catch (...) {
        fs::remove_all(draft, ignored);
        throw;
    }
}

}  // namespace escultura::report

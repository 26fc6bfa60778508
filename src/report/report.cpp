/// The report chapter by chapter. Long because a report is: each chapter is a function of its own.

#include "report/report.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <nlohmann/json.hpp>

#include "base/quantity.hpp"
#include "base/text.hpp"
#include "duty/rebuild_text.hpp"
#include "duty/requirement_text.hpp"
#include "judge/comparison.hpp"
#include "judge/factor.hpp"
#include "judge/findings.hpp"
#include "judge/proposals.hpp"
#include "judge/releases.hpp"
#include "judge/requirements.hpp"
#include "report/paged_report.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;

std::string num(double v, int digits = 4) {
    return formatNumber(v, digits);
}

/// @param noise  what is not more than that is nothing
std::string vec(const Vec3& v, int digits = 4, double noise = 0) {
    auto part = [&](double x) {
        return std::abs(x) < 1e-6 * v.cwiseAbs().maxCoeff() || std::abs(x) <= noise ? std::string("0") : num(x, digits);
    };
    return part(v[0]) + ", " + part(v[1]) + ", " + part(v[2]);
}

/// Blanks of a digit's width before and behind the numbers of each column that has nothing else, so that their
/// decimal signs stand one under the other.
std::vector<std::vector<std::pair<std::string, std::string>>> padsOf(
    const std::vector<std::vector<std::string>>& rows) {
    std::vector<std::vector<std::pair<std::string, std::string>>> pads(rows.size());
    std::size_t columns = 0;
    for (std::size_t r = 0; r < rows.size(); ++r) {
        pads[r].resize(rows[r].size());
        columns = std::max(columns, rows[r].size());
    }
    auto whole = [](const std::string& words) {
        const auto end = words.find_first_not_of("0123456789", words[0] == '-' || words[0] == '+' ? 1 : 0);
        return end == std::string::npos ? words.size() : end;
    };
    for (std::size_t c = 0; c < columns; ++c) {
        std::size_t widest = 0;
        int numbers = 0;
        bool all = true;
        for (const auto& row : rows) {
            if (c >= row.size() || row[c].empty()) continue;
            all = all && isNumber(QString::fromStdString(row[c]));
            ++numbers;
            if (all) widest = std::max(widest, whole(row[c]));
        }
        if (!all || numbers < 2) continue;
        for (std::size_t r = 0; r < rows.size(); ++r)
            if (c < rows[r].size() && !rows[r][c].empty())
                for (std::size_t k = whole(rows[r][c]); k < widest; ++k) pads[r][c].first += "\u2007";
    }
    return pads;
}

class Html {
  public:
    void heading(int number, const std::string& title) {
        out_ += "<h2><a name=\"chapter-" + std::to_string(number) + "\"></a>" + std::to_string(number) + "&nbsp; " +
                escapedMarkup(title) + "</h2>\n";
        contents_.push_back(title);
    }
    void section(const std::string& title) { out_ += "<h3>" + escapedMarkup(title) + "</h3>\n"; }
    const std::vector<std::string>& contents() const { return contents_; }
    void paragraph(const std::string& text) { out_ += "<p>" + escapedMarkup(text) + "</p>\n"; }
    void table(const std::vector<std::string>& head, const std::vector<std::vector<std::string>>& rows) {
        out_ += "<table cellspacing=\"0\" cellpadding=\"4\" width=\"100%\"><thead><tr>";
        for (const auto& h : head) out_ += "<th align=\"left\">" + escapedMarkup(h) + "</th>";
        out_ += "</tr></thead>\n";
        const auto pads = padsOf(rows);
        for (std::size_t r = 0; r < rows.size(); ++r) {
            out_ += "<tr>";
            for (std::size_t c = 0; c < rows[r].size(); ++c)
                out_ += "<td>" + pads[r][c].first + escapedMarkup(rows[r][c]) + pads[r][c].second + "</td>";
            out_ += "</tr>\n";
        }
        out_ += "</table>\n";
    }
    void picture(const std::string& name, const std::string& caption) {
        out_ += "<p class=\"picture\"><img src=\"pictures/" + name + ".png\" width=\"640\" alt=\"" +
                escapedMarkup(caption) + "\"/><br/><span class=\"note\">" + escapedMarkup(caption) + "</span></p>\n";
    }
    void raw(const std::string& html) { out_ += html; }
    const std::string& text() const { return out_; }

  private:
    std::string out_;
    std::vector<std::string> contents_;
};

void reason(Html& h, const Variant& v, Stage stage) {
    const auto at = v.reasons.find(static_cast<int>(stage));
    if (at != v.reasons.end() && !at->second.empty()) h.paragraph("Reason: " + at->second);
}

bool has(const std::vector<std::string>& pictures, const std::string& name) {
    return std::find(pictures.begin(), pictures.end(), name) != pictures.end();
}

void dutyChapter(Html& h, const Project& p, const Variant& v) {
    const Part& part = p.partOf(v.recipe);
    h.heading(1, "Duty");
    if (!part.description.empty()) h.paragraph(part.description);
    const auto& m = part.material;
    h.table(
        {"Material", "Young's modulus", "Poisson's ratio", "Density", "Strength", "Source of the strength"},
        {{m.name, num(m.youngsModulus, 6) + " MPa", num(m.poissonsRatio), num(m.density * 1e9) + " kg/m³",
          num(elastic::strength(m)) + " MPa" + (part.isBrittle() ? " (ultimate, brittle rule)" : ""), m.yieldSource}});
    if (!part.optimisedWith.empty()) h.paragraph("The optimisation used another material: " + part.optimisedWith + ".");
    std::vector<std::vector<std::string>> rows;
    for (const Interface& i : part.interfaces)
        rows.push_back({i.name, name(i.kind), vec(i.origin), vec(i.axis), num(i.length),
                        i.boreDiameter > 0 ? num(i.boreDiameter) : "none",
                        i.isOfLines() ? std::to_string(i.places.size()) + " " + name(i.kind)
                        : i.kind == Interface::Kind::faces
                            ? std::to_string(i.places.size()) + (i.places.size() == 1 ? " face" : " faces")
                        : !i.outline.empty() ? "outline, " + num(shape::Outline(i.axis, i.outline).area()) + " mm²"
                        : i.ringDiameter > 0 ? num(i.ringDiameter)
                                             : "none"});
    h.table({"Interface", "Kind", "Start, mm", "Axis", "Length, mm", "Bore, mm", "Ring, mm"}, rows);
    rows.clear();
    for (const LoadCase& c : part.loadCases)
        for (const Load& l : part.loadsOf(c))
            rows.push_back({c.name + (c.use == LoadCase::Use::off ? " (off)" : ""), words(l.kind),
                            l.onFaces() ? listed(l.on.interfaces) + " (" + l.on.face + ")" : "whole part", describe(l),
                            l.frame.empty() ? "global" : l.frame, num(c.factor),
                            l.on.interfaces.size() < 2 ? ""
                            : l.sharedTotal            ? "total, shared"
                                                       : "each"});
    h.table({"Load case", "Kind", "Acts on", "Load", "Frame", "Factor", "Total or each"}, rows);
    rows.clear();
    for (const Combination& c : part.combinations) rows.push_back({c.name, combinationText(c), c.on ? "on" : "off"});
    if (!rows.empty()) h.table({"Combination", "Sum", "Use"}, rows);
    rows.clear();
    const bool sets =
        std::any_of(part.supports.begin(), part.supports.end(), [](const Support& s) { return !s.set.empty(); });
    auto casesHeldBy = [&](const Support& s) {
        std::vector<std::string> cases;
        for (const LoadCase& c : part.loadCases)
            if (c.use != LoadCase::Use::off && Part::acts(s, c.supportSet)) cases.push_back(c.name);
        return s.set.empty() ? std::string("every load case") : s.set + ": " + (cases.empty() ? "none" : listed(cases));
    };
    for (const Support& s : part.supports) {
        rows.push_back({name(s.kind), listed(s.on.interfaces) + " (" + s.on.face + ")", describe(s)});
        if (sets) rows.back().push_back(casesHeldBy(s));
    }
    h.table(sets ? std::vector<std::string>{"Support", "Acts on", "Held", "Set: load cases"}
                 : std::vector<std::string>{"Support", "Acts on", "Held"},
            rows);
    rows.clear();
    if (!v.recipe.numbers.empty()) {
        Recipe without = v.recipe;
        without.numbers.clear();
        for (const Difference& d : differences(p.part, without, v.recipe)) rows.push_back({d.what, d.before, d.after});
        h.paragraph("This variant has numbers of the part file otherwise:");
        h.table({"Number", "Part file", "This variant"}, rows);
    }
    rows.clear();
    for (const Requirement& r : part.requirements)
        rows.push_back({words(r), r.source.empty() ? "not given" : r.source});
    h.table({"Requirement", "Source"}, rows);
    reason(h, v, Stage::duty);
}

/// How a field that was made here came about.
void madeField(Html& h, const Project& p, const Variant& v, const MadeField& made) {
    h.heading(3, "How the field was made");
    h.paragraph("Optimised here: " + made.task + ", in " + std::to_string(made.steps.size()) + " steps." +
                (p.madeKey(v.recipe) == v.recipe.field.made
                     ? ""
                     : " The duty has changed since: the field was made for other loads, supports or rules."));
    std::vector<std::vector<std::string>> rows;
    for (std::size_t i = 0; i < made.cases.size(); ++i)
        rows.push_back({made.cases[i], num(0.5 * made.compliance[i]) + " N mm"});
    h.table({"Case", "Strain energy on the grid"}, rows);
    rows.clear();
    const std::size_t every = std::max<std::size_t>(1, made.steps.size() / 8);
    for (std::size_t s = 0; s < made.steps.size(); ++s) {
        if (s % every && s + 1 != made.steps.size()) continue;
        const optimise::Step& step = made.steps[s];
        rows.push_back({std::to_string(step.number), num(step.objective, 4), num(100 * step.share, 3) + " %",
                        num(step.sharpness, 3)});
    }
    h.table({"Step", "Objective", "Share of the design space", "Sharpness of the projection"}, rows);
    for (const std::string& n : made.notes) h.paragraph(n);
}

void surfaceChapter(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(3, "Surface");
    const auto s = p.surface(v.recipe);
    if (!s) {
        h.paragraph("Out of date or not built yet.");
        return;
    }
    h.table({"Smoothing", "Volume", "Asked volume", "Mass", "Triangles", "Pieces", "Handles", "Closed", "Deviation RMS",
             "Deviation max"},
            {{num(v.recipe.smoothing) + " mm" + (v.recipe.keepMembers ? ", members kept" : ""),
              num(s->measures.volume / 1000, 5) + " cm³", num(s->askedVolume / 1000, 5) + " cm³",
              num(s->measures.volume * p.partOf(v.recipe).material.density) + " kg",
              std::to_string(s->mesh.triangle.size()), std::to_string(s->measures.pieces),
              std::to_string(s->measures.genus), s->measures.watertight ? "yes" : "no", num(s->deviationRms, 3) + " mm",
              num(s->deviationMax, 3) + " mm"}});
    if (s->finerSpacing > 0)
        h.paragraph("Extracted with edges of " + num(s->finerSpacing, 3) + " mm instead of " +
                    num(v.recipe.surfaceSpacing, 3) +
                    " mm: the coarser surface did not have the handles of the field.");
    h.paragraph(
        "Deviation is measured on the free surface more than two cells away from interfaces and empty volumes, where "
        "the shape follows the field.");
    std::vector<std::vector<std::string>> rows;
    for (const BoreFigure& b : s->bores)
        rows.push_back({b.interface, num(b.nominal, 5) + " mm", num(b.measured, 5) + " mm", num(b.error, 2) + " mm"});
    if (!rows.empty()) h.table({"Bore", "Nominal", "Measured", "Largest error"}, rows);
    rows.clear();
    for (const ThinMember& m : s->members)
        rows.push_back({vec(m.at), num(m.thickness, 3) + " mm", num(m.least, 3) + " mm", num(m.length, 3) + " mm",
                        m.fate == MemberFate::thicken    ? "brought up to " + num(s->smallestMember, 3) + " mm"
                        : m.fate == MemberFate::leaveOut ? "left out"
                        : m.fate == MemberFate::keep     ? "kept at its thickness"
                                                         : "undecided: kept at its thickness",
                        m.after > 0 ? num(m.after, 3) + " mm" : "none"});
    if (rows.empty())
        h.paragraph("No member of the field is thinner than " + num(s->smallestMember, 3) + " mm.");
    else
        h.table(
            {"Thin member at, mm", "Mean thickness in the field", "Thinnest", "Length", "Decision", "In the surface"},
            rows);
    rows.clear();
    for (const Thickening& t : v.recipe.thickenings) rows.push_back({describe(t)});
    if (!rows.empty()) h.table({"Thickened by"}, rows);
    rows.clear();
    rows.push_back({num(s->thickness.least, 3) + " mm", vec(s->thickness.leastAt), num(s->thickness.low5, 3) + " mm",
                    num(s->thickness.median, 3) + " mm"});
    h.table({"0.1 % of the surface is thinner than", "At, mm", "5 % is thinner than", "Median"}, rows);
    if (const auto process = p.process(v.recipe)) {
        const auto& d = process->draft;
        const auto& o = process->overhang;
        h.table({"Too little draft", "Undercut", "Needs supports", "Support volume"},
                {{num(d.freeArea > 0 ? 100 * d.tooSteepArea / d.freeArea : 0, 3) + " % of the free surface",
                  num(d.undercutArea, 3) + " mm²", num(100 * o.area / s->measures.area, 3) + " % of the surface",
                  num(o.supportVolume / 1000, 3) + " cm³"}});
    }
    reason(h, v, Stage::surface);
    if (has(pictures, "surface")) h.picture("surface", "Surface with interfaces");
}

void rebuildChapter(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(4, "Rebuild");
    std::vector<std::vector<std::string>> rows;
    const auto cage = p.cage(v.recipe);
    const auto solid = p.rebuild(v.recipe);
    if (cage) {
        const auto& d = cage->deviation;
        h.table({"Cage faces", "Mean edge", "Pieces, handles", "Deviation RMS", "Largest", "From the surface back",
                 "At interfaces", "Folds", "Tolerance"},
                {{std::to_string(cage->cage.face.size()), num(d.edge) + " mm",
                  std::to_string(cage->report.pieces) + ", " + std::to_string(cage->report.genus),
                  num(d.rms, 2) + " mm", num(d.largest, 2) + " mm", num(d.backLargest, 2) + " mm",
                  num(d.zoneLargest, 2) + " mm", std::to_string(cage->folded.size()),
                  cage->tolerance > 0 ? num(cage->tolerance, 2) + " mm, " + (cage->within ? "kept" : "not kept")
                                      : "none: faces given, or changed afterwards"}});
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
                            : step.kind == CageStep::Kind::thickening ? describe(t)
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

void geometryChapters(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(2, "Field");
    const auto field = p.field(v.recipe);
    const ThresholdFigures t = thresholdFigures(p.partOf(v.recipe), *field, v.recipe);
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
    if (const auto made = p.made(v.recipe)) madeField(h, p, v, *made);
    reason(h, v, Stage::field);
    if (has(pictures, "field")) h.picture("field", "Cells kept at the threshold");
    surfaceChapter(h, p, v, pictures);
    if (!p.surface(v.recipe)) return;
    rebuildChapter(h, p, v, pictures);
}

void passesTable(Html& h, const CheckResult& c) {
    if (!c.passes.empty()) {
        std::vector<std::vector<std::string>> steps;
        for (const ConvergencePass& pass : c.passes) {
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
        h.paragraph(c.converged ? "Converged: the last pass changed no case by more than the chosen share."
                                : "Not converged within the passes allowed.");
    }
}

void meshTables(Html& h, const CheckResult& c) {
    h.table({"Elements", "Nodes", "Unknowns", "Dihedral angles", "Scaled Jacobian, lowest", "Volume"},
            {{std::to_string(c.mesh.tet.size()) + " quadratic tetrahedra", std::to_string(c.mesh.position.size()),
              std::to_string(c.unknowns), num(c.quality.minDihedral, 3) + "° to " + num(c.quality.maxDihedral, 4) + "°",
              num(c.quality.minScaledJacobian, 3), num(c.quality.volume / 1000, 5) + " cm³"}});
    h.paragraph("Solver: " + c.solver + ", " + num(c.solverMemory / 1e9, 2) + " GB. Level: " + name(c.level) + ". " +
                std::to_string(c.quality.warned) + " poor and " + std::to_string(c.quality.failed) +
                " bad elements; largest aspect ratio " + num(c.quality.maxAspectRatio, 3) + ".");
}

/// The further analyses that were worked out, each with its figures and the picture of its first shape.
void analysisTables(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    for (const AnalysisChoice& choice : askedAnalyses(p.partOf(v.recipe), v.recipe)) {
        const AnalysisKind* kind = findAnalysis(choice.kind);
        const auto found = p.analysis(v.recipe, choice.kind);
        if (!found) {
            h.paragraph("Asked for and not worked out: " + std::string(kind->words) + ".");
            continue;
        }
        std::vector<std::vector<std::string>> rows;
        auto shown = [](double value, const std::string& unit) {
            return std::isinf(value) ? std::string("none") : num(value) + (unit.empty() ? "" : " " + unit);
        };
        for (const AnalysisFigure& f : found->figures)
            rows.push_back({f.label, f.loadCase, shown(f.value, f.unit), shown(f.counts, f.unit), f.note});
        h.table({"Figure", "Load case", "Worked out", "Counts as", "Note"}, rows);
        for (const std::string& note : found->notes) h.paragraph(note);
        if (has(pictures, "analysis-" + choice.kind) && !found->shapes.empty())
            h.picture("analysis-" + choice.kind, std::string(kind->words) + ": " + found->shapes.front().title);
    }
}

void checkChapters(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(5, "Check");
    const auto c = p.check(v.recipe);
    if (!c) {
        h.paragraph("Out of date or not run yet.");
        return;
    }
    meshTables(h, *c);
    passesTable(h, *c);
    std::vector<std::vector<std::string>> rows;
    for (const CaseResult& x : c->cases)
        rows.push_back({x.name, factorWords(factorOf(p, v, *c, x.name)), num(x.maxStress) + " MPa",
                        num(x.maxRecoveredStress) + " MPa", num(x.maxRawStress) + " MPa",
                        num(x.maxDisplacement) + " mm", num(100 * x.energyError, 3) + " %"});
    h.table({"Load case", "Safety factor that counts", "Stress, judged", "recovered", "at integration points",
             "Displacement", "Energy error estimate"},
            rows);
    h.paragraph(
        "Judged stresses are averages of each element's own stress at a node; recovered ones are fitted to the "
        "integration points around it. Where the two differ by more than 10 % the place is not resolved, and "
        "the larger one counts with their difference on top of it, until the hotspot is tested. The same part moved, "
        "mirrored or turned by quarters has the same mesh; another mesh of it changes untested peaks by about a tenth "
        "where they are not resolved, and tested ones by less than 1 % (measured on a reference "
        "part).");
    for (const CaseResult& x : c->cases)
        if (x.intoSupports > 1e-4)
            h.paragraph("Load case '" + x.name + "': " + num(100 * x.intoSupports, 2) +
                        " % of the forces on faces act where supports hold and load nothing.");
    for (const std::string& gap : meshGaps(p, v.recipe)) h.paragraph(gap);
    rows.clear();
    for (const CaseResult& x : c->cases) {
        char error[32];
        std::snprintf(error, sizeof error, "%.1e", x.equilibriumError);
        rows.push_back({x.name, vec(x.meant), vec(x.applied), x.appliedAsMeant ? "yes" : "no", vec(x.reaction), error});
    }
    h.table({"Load case", "Load stated, N", "Applied, N", "As stated", "Reaction, N", "Equilibrium error"}, rows);
    rows.clear();
    Box3 bounds;
    for (const Vec3& node : c->mesh.position) bounds.include(node);
    const double size = bounds.diagonal() / 1000;  // m
    for (const CaseResult& x : c->cases)
        for (const auto& r : x.reactions)
            rows.push_back({x.name, r.interface, vec(r.force), num(r.force.norm()),
                            vec(r.moment / 1000, 4, 1e-9 * r.force.norm() * size)});
    h.table({"Load case", "Interface", "Reaction, N", "Size, N", "Moment about its middle, N m"}, rows);
    h.paragraph("Worst of all cases: safety factor " + factorWords(factorOf(p, v, *c)) +
                "; the check's mesh alone: " + num(c->minSafetyFactor, 3) + ", judged stress " +
                num(c->envelope.maxStress) + " MPa, governed by " + c->governingCase + ".");
    analysisTables(h, p, v, pictures);
    reason(h, v, Stage::check);
    if (has(pictures, "safety-factor")) h.picture("safety-factor", "Safety factor, worst of all cases");
    for (std::size_t i = 0; i < c->cases.size(); ++i) {
        const std::string name = "case-" + std::to_string(i + 1);
        if (has(pictures, name)) h.picture(name, "von Mises stress, " + c->cases[i].name);
    }
    for (const NamedView& view : p.views)
        for (std::size_t i = 0; i < c->cases.size(); ++i) {
            const std::string name = viewPicture(view, i);
            if (has(pictures, name)) h.picture(name, "von Mises stress, " + c->cases[i].name + ", view " + view.name);
        }
}

void findingsChapter(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(6, "Findings");
    const auto findings = findingsOf(p, v.recipe);
    std::vector<std::vector<std::string>> rows, tests, others;
    for (const Finding& x : findings) {
        const DispositionState state = dispositionState(p, v, x);
        const Disposition* d = state.disposition;
        const std::string signedAs = d ? (state.holds ? "" : "out of date: ") + d->decision + ": " + d->reason + " (" +
                                             d->by + ", " + d->date + ")"
                                       : "open";
        if (x.kind != Finding::Kind::hotspot) {
            others.push_back({x.id, classOf(x), x.text, vec(x.position), signedAs});
            continue;
        }
        rows.push_back({x.id, classOf(x), num(x.peak) + " MPa", num(x.safetyFactor, 3), x.caseName, vec(x.position),
                        x.nearestInterface + ", " + num(x.distance, 3) + " mm", num(x.area, 3) + " mm²", signedAs});
        const assess::Evidence& e = x.evidence;
        if (e.verdict == assess::HotspotClass::untested) continue;
        std::string peaks;
        for (std::size_t i = 0; i < e.peak.size(); ++i)
            peaks += (i ? "; " : "") + num(e.peak[i]) + " MPa at " + num(e.size[i], 2) + " mm";
        tests.push_back({x.id, peaks, num(e.exponent, 2), e.angle < 179.5 ? num(e.angle, 3) + "°" : "smooth",
                         e.radius > 0 && std::isfinite(e.radius) ? num(e.radius, 2) + " mm"
                         : e.radius > 0                          ? "not hollow"
                                                                 : "sharp",
                         e.reason});
    }
    if (rows.empty())
        h.paragraph(p.findings(v.recipe) ? "No peak is high enough over its saddle to be a hotspot."
                                         : "Out of date or not looked for yet.");
    else
        h.table({"Id", "Class", "Peak", "Safety factor", "Load case", "Place, mm", "Nearest interface",
                 "Above 80 % of it", "Disposition"},
                rows);
    if (!tests.empty()) {
        h.paragraph(
            "Tests: the elements around the spots are halved twice, a third time where the peak still changes by more "
            "than 2 %, and all load cases are solved anew on a piece around each. A peak that changes by less than 5 % "
            "at the last step, and by less than before, is real; one that grows at an edge that stays sharp is "
            "singular; one that grows in the zone of a support or load is a boundary artefact; all else is unresolved. "
            "Safety factors count the finest mesh; where a peak still grows, its last step once more.");
        h.table(
            {"Id", "Peak and element size", "Growth exponent", "Angle of the edge", "Radius of the notch", "Verdict"},
            tests);
    }
    if (!others.empty()) h.table({"Id", "Kind", "What", "Place, mm", "Disposition"}, others);
    for (const Finding& x : findings)
        if (has(pictures, "finding-" + x.id))
            h.picture("finding-" + x.id, x.id + ": " + classOf(x) + ", " + num(x.peak) + " MPa, " + x.caseName);
    reason(h, v, Stage::findings);
}

void comparisonChapter(Html& h, const Project& p, const Variant& v, const std::vector<std::string>& pictures) {
    h.heading(7, "Comparison");
    if (auto variants = checkedVariants(p); variants.size() > 1) {
        markFront(variants);
        std::vector<std::vector<std::string>> lines;
        for (const VariantFigures& f : variants) {
            double peak = 0;
            for (const auto& [name, stress] : f.peaks) peak = std::max(peak, stress);
            lines.push_back({f.name + (f.id == p.variants.at(p.baseline).id ? " (baseline)"
                                       : f.id == v.id                       ? " (this one)"
                                                                            : ""),
                             num(f.mass, 3), num(f.safetyFactor, 3), num(f.displacement, 3), num(peak, 3),
                             f.onFront ? "yes" : "no"});
        }
        h.table({"Variant", "Mass, kg", "Smallest safety factor", "Largest displacement, mm", "Peak stress, MPa",
                 "None is lighter and safer"},
                lines);
        if (has(pictures, "variants"))
            h.picture("variants",
                      "Variants in order, and safety factor over mass; filled dots are the best compromises");
    }
    const Variant& base = p.variants.at(p.baseline);
    if (base.id == v.id) {
        h.paragraph("This variant is the baseline itself.");
    } else {
        const auto compared = compareVariants(p, base, v);
        std::vector<std::vector<std::string>> rows;
        for (const ComparedFigure& c : compared) {
            const std::string u = c.unit.empty() ? "" : " " + c.unit;
            rows.push_back({c.loadCase.empty() ? "all" : c.loadCase, c.figure, num(c.baseline, 4) + u,
                            num(c.value, 4) + u, num(c.difference(), 3) + u,
                            std::isfinite(c.share()) ? num(100 * c.share(), 3) + " %" : ""});
        }
        if (rows.empty()) {
            h.paragraph("The baseline, variant " + base.name + ", is not checked: there is nothing to compare with.");
        } else {
            const double saved = compared.front().baseline - compared.front().value;
            h.paragraph("Against the baseline, variant " + base.name + ": " +
                        (saved >= 0 ? num(saved, 3) + " kg saved." : num(-saved, 3) + " kg added."));
            h.table({"Load case", "Figure", "Baseline", "This variant", "Difference", "Difference, %"}, rows);
        }
        rows.clear();
        for (const Difference& d : differences(p.part, base.recipe, v.recipe))
            rows.push_back(
                {d.what, d.before.empty() ? "not there" : d.before, d.after.empty() ? "not there" : d.after});
        if (!rows.empty()) h.table({"What differs", "Variant " + base.name, "Variant " + v.name}, rows);
    }
    std::vector<std::vector<std::string>> rows;
    for (const Variant& x : p.variants) {
        const auto effect = measuredEffect(p, x);
        if (!effect) continue;
        rows.push_back({x.name, x.origin.finding, x.origin.proposal, num(effect->before, 3),
                        effect->high > 0 ? num(effect->low, 3) + " to " + num(effect->high, 3) : "none",
                        effect->after ? num(*effect->after, 3) : "not known",
                        effect->mass ? num(1000 * *effect->mass, 3) + " g" : "not known"});
    }
    if (!rows.empty())
        h.table({"Variant", "Finding", "Proposal applied", "Safety factor before", "Predicted", "Measured", "Mass"},
                rows);
    for (const Study& s : p.studies) {
        if (s.done.empty()) continue;
        std::string axes;
        for (const auto& a : s.axes) axes += (axes.empty() ? "" : ", ") + a.label;
        const Evaluation* best = s.best >= 0 ? &s.done[static_cast<std::size_t>(s.best)] : nullptr;
        h.paragraph("Study (" + std::string(name(s.kind)) + ") over " + axes + ": " + std::to_string(s.done.size()) +
                    " evaluations at level " + (s.standard ? "standard" : "look") +
                    (best ? "; lightest that meets all requirements: " + num(best->figures.at("mass"), 3) +
                                " kg, "
                                "safety factor " +
                                num(best->figures.at("safety factor"), 3)
                          : std::string("; none meets all requirements")) +
                    ".");
    }
}

void releaseChapter(Html& h, const Project& p, const Variant& v, const Release* release) {
    h.heading(8, "Release");
    std::vector<std::vector<std::string>> rows;
    for (const RequirementState& s : requirementStates(p, v, nullptr, nullptr))
        rows.push_back({s.name, s.hasLimit ? (s.atLeast ? "at least " : "at most ") + num(s.limit) + " " + s.unit : "",
                        std::isnan(s.value) ? "not known"
                        : s.hasLimit        ? num(s.value) + " " + s.unit
                        : s.value == 0      ? "yes"
                                            : num(s.value) + " open",
                        word(s.state) + std::string(s.note.empty() ? "" : " (" + s.note + ")"), s.source});
    h.table({"Requirement", "Limit", "Value", "State", "Source"}, rows);
    const auto blockers = releaseBlockers(p, v);
    if (blockers.empty()) {
        h.paragraph(
            "Open for release: every requirement is met with fresh results and every finding has its disposition.");
    } else {
        h.paragraph("Not open for release:");
        h.raw("<ul>");
        for (const auto& b : blockers) h.raw("<li>" + escapedMarkup(b.text) + "</li>");
        h.raw("</ul>\n");
    }
    reason(h, v, Stage::release);
    if (release) {
        h.section("Sign-off");
        h.table({"Release", "Variant", "Name", "Role", "Date", "Remark"},
                {{std::to_string(release->number), release->variantName, release->name, release->role, release->date,
                  release->remark}});
    } else {
        h.paragraph("Not signed.");
    }
    if (!p.history.empty()) {
        h.section("History");
        rows.clear();
        const std::size_t first = p.history.size() > 60 ? p.history.size() - 60 : 0;
        for (std::size_t i = first; i < p.history.size(); ++i)
            rows.push_back({p.history[i].time, p.history[i].who, p.history[i].text});
        h.table({"Time", "Who", "What"}, rows);
    }
}

/// The first sentence: what is not met, not tested or open before what is met.
std::string verdictWords(const Project& project, const Variant& variant) {
    int notMet = 0, soFar = 0, unknown = 0, open = 0;
    for (const RequirementState& s : requirementStates(project, variant, nullptr, nullptr)) {
        using State = RequirementState::State;
        if (s.kind == Requirement::Kind::findingsDisposed) continue;  // counted below
        notMet += s.state == State::notMet;
        soFar += s.state == State::metSoFar;
        unknown += s.state == State::unknown || s.state == State::outOfDate;
    }
    for (const Finding& f : findingsOf(project, variant.recipe)) {
        const DispositionState s = dispositionState(project, variant, f);
        open += !s.holds || s.disposition->decision == "fix";
    }
    const std::size_t untested = hotspotsToTest(project, variant).size();
    std::string words;
    auto add = [&](std::size_t count, const std::string& one, const std::string& many) {
        if (count == 0) return;
        words += (words.empty() ? "" : "; ") + std::to_string(count) + " " + (count == 1 ? one : many);
    };
    add(static_cast<std::size_t>(notMet), "requirement is not met", "requirements are not met");
    add(static_cast<std::size_t>(unknown), "requirement is not known", "requirements are not known");
    add(static_cast<std::size_t>(soFar), "is met only so far", "are met only so far");
    add(untested, "hotspot that could govern is not tested", "hotspots that could govern are not tested");
    add(static_cast<std::size_t>(open), "finding is open", "findings are open");
    if (words.empty())
        return project.part.requirements.empty() ? "No requirement is stated." : "Every requirement is met.";
    words[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(words[0])));
    return words + ".";
}

const char* styleSheet = "body{font-family:Inter,sans-serif;font-size:10.5pt;color:#2B2A27;";
const char* styleOfParts =
    "}"
    "p{line-height:130%;} p.picture{line-height:100%;}"
    "h1{font-size:22pt;margin-bottom:2px;} h2{font-size:15pt;color:#B4532A;margin-top:22px;}"
    "p.verdict{font-size:13pt;} span.figure{font-size:21pt;} td.figure{border-bottom:0;}"
    "h3{font-size:10.5pt;margin-top:12px;margin-bottom:2px;} a{color:#2B2A27;text-decoration:none;}"
    "table{margin-top:6px;margin-bottom:8px;border-collapse:collapse;} "
    "th{color:#6E695F;font-weight:normal;border-bottom:1px solid #DAD2C3;font-size:8.5pt;}"
    "td{border-bottom:1px solid #EBE4D6;font-size:9pt;font-variant-numeric:tabular-nums;}"
    "span.note{color:#6E695F;font-size:9pt;} img{max-width:100%;}";

}  // namespace

std::string viewPicture(const NamedView& view, std::size_t loadCase) {
    std::string name = "view-";
    for (char c : view.name) name += std::isalnum(static_cast<unsigned char>(c)) ? c : '-';
    return name + "-case-" + std::to_string(loadCase + 1);
}

std::string reportHtml(const Project& project, const Variant& variant, const std::vector<std::string>& pictures,
                       const Release* release) {
    Html h;
    dutyChapter(h, project, variant);
    geometryChapters(h, project, variant, pictures);
    checkChapters(h, project, variant, pictures);
    findingsChapter(h, project, variant, pictures);
    comparisonChapter(h, project, variant, pictures);
    releaseChapter(h, project, variant, release);

    std::string out = "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"/><title>" +
                      escapedMarkup(project.part.name) + "</title><style>" + styleSheet + screenStyle + styleOfParts +
                      "</style></head><body>\n";
    out += "<h1>" + escapedMarkup(project.part.name) + "</h1><p>Static stress check, variant " +
           escapedMarkup(variant.name) +
           (release ? ", release " + std::to_string(release->number) + ", signed by " + escapedMarkup(release->name) +
                          ", " + escapedMarkup(release->date)
                    : std::string(", not released")) +
           ".</p>\n";
    const auto check = project.check(variant.recipe);
    if (check) {
        const VariantFigures f = figuresOf(project, variant, nullptr, nullptr);
        out += "<p class=\"verdict\"><b>" + verdictWords(project, variant) + "</b></p>\n";
        out += "<table class=\"figures\" cellspacing=\"0\" cellpadding=\"0\" width=\"100%\"><tr>";
        auto figure = [&](const std::string& value, const std::string& words) {
            out += "<td class=\"figure\"><span class=\"figure\">" + value + "</span><br/><span class=\"note\">" +
                   escapedMarkup(words) + "</span></td>";
        };
        const std::string doubt = doubtWords(factorOf(project, variant, *check));
        figure(num(f.safetyFactor, 3), "smallest safety factor, the one that counts; " + check->governingCase +
                                           (doubt.empty() ? "" : "; " + doubt));
        figure(num(f.displacement, 3) + " mm", "largest displacement");
        figure(num(f.mass, 3) + " kg", "mass");
        out += "</tr></table>\n";
    }
    out += "<table class=\"contents\" cellspacing=\"0\" cellpadding=\"3\">";
    for (std::size_t i = 0; i < h.contents().size(); ++i) {
        const std::string n = std::to_string(i + 1);
        out += "<tr><td>" + n + "</td><td><a href=\"#chapter-" + n + "\">" + escapedMarkup(h.contents()[i]) +
               "</a></td><td align=\"right\">" + pageMark + n + "</td></tr>\n";
    }
    out +=
        "</table>\n<p><span class=\"note\">Units: mm, N, MPa, kg unless written beside the figure. Places are in the "
        "part's global "
        "frame.</span></p>\n";
    return out + h.text() + "</body></html>\n";
}

}  // namespace escultura::report

/// Projects as text and back, and what differs between two recipes. Long because every number of a recipe has its line.

#include "store/state_text.hpp"

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>

#include "base/text.hpp"
#include "duty/part_numbers.hpp"
#include "duty/rebuild_text.hpp"

namespace escultura::store {
namespace {

using nlohmann::json;

json toJson(const Vec3& v) {
    return json::array({v[0], v[1], v[2]});
}
Vec3 vectorFrom(const json& j) {
    return Vec3(j.at(0).get<double>(), j.at(1).get<double>(), j.at(2).get<double>());
}

json toJson(const CheckChoice& c) {
    json sizes = json::array();
    for (const LocalSize& s : c.localSizes)
        sizes.push_back({{"kind", static_cast<int>(s.kind)},
                         {"low", toJson(s.low)},
                         {"high", toJson(s.high)},
                         {"centre", toJson(s.centre)},
                         {"radius", s.radius},
                         {"interface", s.interface},
                         {"name", s.name},
                         {"size", s.size}});
    return {{"original", c.original},          {"rebuilt", c.rebuilt},        {"level", static_cast<int>(c.level)},
            {"convergence", c.convergence},    {"passes", c.passes},          {"elements_through", c.elementsThrough},
            {"around_circle", c.aroundCircle}, {"chord_error", c.chordError}, {"method", static_cast<int>(c.method)},
            {"tolerance", c.tolerance},        {"local_sizes", sizes}};
}

}  // namespace

json recipeJson(const Recipe& r) {
    json thickenings = json::array(), numbers = json::array();
    for (const Thickening& t : r.thickenings) thickenings.push_back(thickeningJson(t));
    for (const PartNumber& n : r.numbers) numbers.push_back({{"place", n.place}, {"value", n.value}});
    json chosen{{"how", static_cast<int>(r.field.how)}, {"which", r.field.which}, {"weights", r.field.weights}};
    if (r.field.how == FieldChoice::How::made) chosen["made"] = r.field.made;
    json j{{"threshold", r.threshold},
           {"smoothing", r.smoothing},
           {"surface_spacing", r.surfaceSpacing},
           {"element_size", r.elementSize},
           {"hotspot_share", r.hotspotShare},
           {"field", chosen},
           {"largest_piece_only", r.largestPieceOnly},
           {"smallest_island", r.smallestIsland},
           {"triangles", static_cast<int>(r.triangles)},
           {"triangle_budget", r.triangleBudget},
           {"draft",
            {{"add", r.draft.add},
             {"pull", toJson(r.draft.pull)},
             {"parting", r.draft.parting},
             {"angle", r.draft.angle}}},
           {"printing", {{"up", toJson(r.printing.up)}, {"overhang", r.printing.overhang}}},
           {"thickenings", thickenings},
           {"named_numbers", numbers},
           {"rebuild", rebuildJson(r.rebuild)},
           {"check", toJson(r.check)}};
    if (r.keepMembers) j["keep_members"] = true;
    if (r.edgeError > 0) j["edge_error"] = r.edgeError;
    if (r.edges != DesignEdges{}) j["design_edges"] = {{"radius", r.edges.radius}, {"sides", r.edges.side}};
    if (r.thin != ThinMembers{}) {
        json decisions = json::array();
        for (const MemberDecision& d : r.thin.decisions)
            decisions.push_back({{"at", toJson(d.at)}, {"fate", static_cast<int>(d.fate)}});
        j["thin_members"] = {
            {"smallest", r.thin.smallest}, {"others", static_cast<int>(r.thin.others)}, {"decisions", decisions}};
    }
    for (const AnalysisChoice& a : r.analyses) j["analyses"].push_back({{"kind", a.kind}, {"numbers", a.numbers}});
    return j;
}

namespace {
CheckChoice checkFrom(const json& j) {
    CheckChoice c;
    c.original = j.value("original", false);
    c.rebuilt = j.value("rebuilt", false);
    c.level = static_cast<Level>(std::clamp(j.at("level").get<int>(), 0, 2));
    c.convergence = j.at("convergence");
    c.passes = j.at("passes");
    c.elementsThrough = j.at("elements_through");
    c.aroundCircle = j.value("around_circle", 0);
    c.chordError = j.value("chord_error", 0.0);
    c.method = static_cast<elastic::Method>(
        std::clamp(j.at("method").get<int>(), 0, static_cast<int>(std::size(elastic::methodKinds)) - 1));
    c.tolerance = j.at("tolerance");
    for (const auto& s : j.at("local_sizes")) {
        LocalSize size;
        size.kind = static_cast<LocalSize::Kind>(std::clamp(s.at("kind").get<int>(), 0, 2));
        size.low = vectorFrom(s.at("low"));
        size.high = vectorFrom(s.at("high"));
        size.centre = vectorFrom(s.at("centre"));
        size.radius = s.at("radius");
        size.interface = s.at("interface");
        size.name = s.at("name");
        size.size = s.at("size");
        c.localSizes.push_back(size);
    }
    return c;
}

}  // namespace

namespace {

MemberFate fateFrom(const json& j) {
    return static_cast<MemberFate>(std::clamp(j.get<int>(), 0, 3));
}

ThinMembers thinFrom(const json& j) {
    ThinMembers t{j.at("smallest"), fateFrom(j.at("others")), {}};
    for (const auto& d : j.at("decisions")) t.decisions.push_back({vectorFrom(d.at("at")), fateFrom(d.at("fate"))});
    return t;
}

}  // namespace

Recipe recipeFrom(const json& j) {
    Recipe r;
    r.threshold = j.at("threshold");
    r.smoothing = j.at("smoothing");
    r.keepMembers = j.value("keep_members", false);
    r.edgeError = j.value("edge_error", 0.0);
    if (j.contains("design_edges"))
        r.edges = {j.at("design_edges").at("radius"), j.at("design_edges").at("sides").get<std::array<double, 6>>()};
    if (j.contains("thin_members")) r.thin = thinFrom(j.at("thin_members"));
    r.surfaceSpacing = j.at("surface_spacing");
    r.elementSize = j.at("element_size");
    r.hotspotShare = j.at("hotspot_share");
    const auto& f = j.at("field");
    r.field.how = static_cast<FieldChoice::How>(
        std::clamp(f.at("how").get<int>(), 0, static_cast<int>(fieldSources().size()) - 1));
    r.field.made = f.value("made", "");
    r.field.which = f.at("which");
    r.field.weights = f.at("weights").get<std::vector<double>>();
    r.largestPieceOnly = j.at("largest_piece_only");
    r.smallestIsland = j.at("smallest_island");
    r.triangles = static_cast<Triangles>(std::clamp(j.at("triangles").get<int>(), 0, 2));
    r.triangleBudget = j.at("triangle_budget");
    const auto& d = j.at("draft");
    r.draft = {d.at("add"), vectorFrom(d.at("pull")), d.at("parting"), d.at("angle")};
    for (const auto& t : j.value("thickenings", json::array())) r.thickenings.push_back(thickeningFrom(t));
    for (const auto& n : j.value("named_numbers", json::array())) r.numbers.push_back({n.at("place"), n.at("value")});
    for (const auto& n : j.value("numbers", json::array()))  // of an earlier version
        r.numbers.push_back({byCount(n.at("place")), n.at("value")});
    if (j.contains("rebuild")) r.rebuild = rebuildFrom(j.at("rebuild"));
    if (j.contains("check")) r.check = checkFrom(j.at("check"));
    r.printing = {vectorFrom(j.at("printing").at("up")), j.at("printing").at("overhang")};
    for (const auto& a : j.value("analyses", json::array()))
        if (findAnalysis(a.at("kind")))  // one of a later version is left out
            r.analyses.push_back({a.at("kind"), a.at("numbers").get<std::map<std::string, double>>()});
    return r;
}

namespace {

template <class T>
json listOf(const std::vector<T>& values, json (*toText)(const T&)) {
    json list = json::array();
    for (const T& v : values) list.push_back(toText(v));
    return list;
}

json toJson(const Disposition& d) {
    return {{"key", d.findingsKey}, {"finding", d.finding}, {"decision", d.decision}, {"reason", d.reason},
            {"by", d.by},           {"date", d.date},       {"kind", d.kind},         {"position", toJson(d.position)},
            {"peak", d.peak},       {"reach", d.reach},     {"print", d.print}};
}

Disposition dispositionFrom(const json& j) {
    Disposition d;
    d.findingsKey = j.at("key");
    d.finding = j.at("finding");
    d.decision = j.at("decision");
    d.reason = j.at("reason");
    d.by = j.at("by");
    d.date = j.at("date");
    d.kind = j.value("kind", std::string());
    if (j.contains("position")) d.position = vectorFrom(j.at("position"));
    d.peak = j.value("peak", 0.0);
    d.reach = j.value("reach", 0.0);
    d.print = j.value("print", LocalPrint{});
    return d;
}

json toJson(const Origin& o) {
    return {{"variant", o.variant}, {"finding", o.finding}, {"proposal", o.proposal}, {"position", toJson(o.position)},
            {"reach", o.reach},     {"before", o.before},   {"low", o.low},           {"high", o.high},
            {"mass", o.mass}};
}

Origin originFrom(const json& j) {
    Origin o;
    o.variant = j.at("variant");
    o.finding = j.at("finding");
    o.proposal = j.at("proposal");
    o.position = vectorFrom(j.at("position"));
    o.reach = j.at("reach");
    o.before = j.at("before");
    o.low = j.at("low");
    o.high = j.at("high");
    o.mass = j.at("mass");
    return o;
}

json toJson(const Variant& v) {
    json j = {{"id", v.id},
              {"name", v.name},
              {"recipe", recipeJson(v.recipe)},
              {"reasons", json::object()},
              {"dispositions", listOf<Disposition>(v.dispositions, toJson)},
              {"archived", v.archived},
              {"from", v.from}};
    if (v.origin.variant) j["origin"] = toJson(v.origin);
    for (const auto& [stage, reason] : v.reasons) j["reasons"][std::to_string(stage)] = reason;
    return j;
}

Variant variantFrom(const json& j) {
    Variant v;
    v.id = j.at("id");
    v.name = j.at("name");
    v.recipe = recipeFrom(j.at("recipe"));
    for (const auto& [stage, reason] : j.at("reasons").items()) v.reasons[std::stoi(stage)] = reason;
    for (const auto& d : j.at("dispositions")) v.dispositions.push_back(dispositionFrom(d));
    v.archived = j.value("archived", false);
    v.from = j.value("from", std::int64_t{0});
    if (j.contains("origin")) v.origin = originFrom(j.at("origin"));
    return v;
}

json toJson(const NamedView& v) {
    return {{"name", v.name},
            {"focus", toJson(v.focus)},
            {"direction", toJson(v.direction)},
            {"up", toJson(v.up)},
            {"height", v.height}};
}

json toJson(const Study::Axis& a) {
    return {{"place", a.place}, {"label", a.label}, {"unit", a.unit},
            {"start", a.start}, {"low", a.low},     {"high", a.high}};
}

json toJson(const Evaluation& e) {
    return {{"values", e.values}, {"figures", e.figures}, {"meets_all", e.meetsAll},
            {"tested", e.tested}, {"problem", e.problem}, {"seconds", e.seconds}};
}

json toJson(const Study& s) {
    return {{"kind", static_cast<int>(s.kind)},
            {"variant", s.variant},
            {"digest", s.digest},
            {"axes", listOf<Study::Axis>(s.axes, toJson)},
            {"step", s.step},
            {"evaluations", s.evaluations},
            {"standard", s.standard},
            {"named", true},
            {"done", listOf<Evaluation>(s.done, toJson)},
            {"best", s.best}};
}

Study studyFrom(const json& j) {
    Study s;
    s.kind = static_cast<Study::Kind>(std::clamp(j.at("kind").get<int>(), 0, 2));
    s.variant = j.at("variant");
    s.digest = j.at("digest");
    for (const auto& a : j.at("axes"))
        s.axes.push_back({a.at("place"), a.at("label"), a.at("unit"), a.at("start"), a.at("low"), a.at("high")});
    if (!j.value("named", false))  // of an earlier version
        for (auto& a : s.axes)
            if (a.place.starts_with("/")) a.place = byCount(a.place);
    s.step = j.at("step");
    s.evaluations = j.at("evaluations");
    s.standard = j.at("standard");
    for (const auto& e : j.at("done")) {
        Evaluation x;
        x.values = e.at("values").get<std::vector<double>>();
        for (const auto& [key, value] : e.at("figures").items())
            if (value.is_number()) x.figures[key] = value;
        x.meetsAll = e.at("meets_all");
        x.tested = e.value("tested", false);
        x.problem = e.at("problem");
        x.seconds = e.at("seconds");
        s.done.push_back(std::move(x));
    }
    s.best = j.at("best");
    return s;
}

json toJson(const Release& r) {
    return {{"number", r.number},   {"variant", r.variant}, {"variant_name", r.variantName},
            {"name", r.name},       {"role", r.role},       {"date", r.date},
            {"remark", r.remark},   {"recipe", r.recipe},   {"part", r.part},
            {"summary", r.summary}, {"check", r.check}};
}

Release releaseFrom(const json& j) {
    return {j.at("number"), j.at("variant"), j.at("variant_name"), j.at("name"),    j.at("role"), j.at("date"),
            j.at("remark"), j.at("recipe"),  j.at("part"),         j.at("summary"), j.at("check")};
}

}  // namespace

json projectJson(const Project& p) {
    return {{"part_path", p.part.path},
            {"open", p.open},
            {"baseline", p.baseline},
            {"variants", listOf<Variant>(p.variants, toJson)},
            {"views", listOf<NamedView>(p.views, toJson)},
            {"studies", listOf<Study>(p.studies, toJson)},
            {"releases", listOf<Release>(p.releases, toJson)}};
}

void applyProjectJson(Project& p, const json& j) {
    std::vector<Variant> variants;
    for (const auto& v : j.at("variants")) variants.push_back(variantFrom(v));
    std::vector<NamedView> views;
    for (const auto& v : j.value("views", json::array()))
        views.push_back({v.at("name"), vectorFrom(v.at("focus")), vectorFrom(v.at("direction")), vectorFrom(v.at("up")),
                         v.at("height")});
    std::vector<Study> studies;
    for (const auto& s : j.value("studies", json::array())) studies.push_back(studyFrom(s));
    std::vector<Release> releases;
    for (const auto& r : j.value("releases", json::array())) releases.push_back(releaseFrom(r));
    const Part& part = p.part;
    for (Variant& v : variants) nameNumbers(part, v.recipe.numbers);
    for (Study& s : studies)
        for (auto& a : s.axes) a.place = namedOrMarked(part, a.place);
    p.open = j.at("open");
    p.baseline = j.at("baseline");
    p.variants = std::move(variants);
    p.views = std::move(views);
    p.studies = std::move(studies);
    p.releases = std::move(releases);
}

json historyJson(const HistoryEntry& e) {
    return {{"time", e.time}, {"who", e.who}, {"text", e.text}, {"state", e.state}};
}

HistoryEntry historyFrom(const json& j) {
    return {j.at("time"), j.at("who"), j.at("text"), j.at("state")};
}

std::string stateText(const Project& project) {
    json j = projectJson(project);
    j["part"] = project.part.text;
    return j.dump();
}

std::string partTextOf(const std::string& state) {
    return json::parse(state).at("part");
}

void applyState(Project& project, const std::string& state) {
    const json j = json::parse(state);
    const std::string text = j.at("part");
    Part part = text == project.part.text ? project.part : parsePart(text, project.part.path);
    std::vector<Study> studies = project.studies;
    std::vector<Release> releases = project.releases;
    std::swap(project.part, part);  // places by count mean the part that they were stored with
    try {
        applyProjectJson(project, j);
    } catch (...) {
        std::swap(project.part, part);
        throw;
    }
    // what was computed or signed is not taken back
    if (studies.size() > project.studies.size()) project.studies = std::move(studies);
    if (releases.size() > project.releases.size()) project.releases = std::move(releases);
}

namespace {

/// Every leaf of a JSON value under its path.
void flatten(const json& j, const std::string& path, std::map<std::string, std::string>& out) {
    auto child = [&](const std::string& key) { return path.empty() ? key : path + " / " + key; };
    if (j.is_object()) {
        for (const auto& [key, value] : j.items()) flatten(value, child(key), out);
    } else if (j.is_array()) {
        const bool numbers = std::all_of(j.begin(), j.end(), [](const json& x) { return x.is_number(); });
        if (numbers && j.size() <= 8) {
            std::string text;
            for (const auto& x : j) text += (text.empty() ? "" : ", ") + plainNumber(x.get<double>());
            out[path] = "(" + text + ")";
            return;
        }
        if (numbers) {
            out[path] = std::to_string(j.size()) + " numbers, digest " +
                        std::to_string(std::hash<std::string>{}(j.dump()) % 100000);
            return;
        }
        for (std::size_t i = 0; i < j.size(); ++i) flatten(j[i], child(std::to_string(i + 1)), out);
    } else if (j.is_boolean()) {
        out[path] = j.get<bool>() ? "yes" : "no";
    } else if (j.is_number()) {
        out[path] = plainNumber(j.get<double>());
    } else {
        out[path] = j.is_string() ? j.get<std::string>() : j.dump();
    }
}

/// Words of the screen for the keys of a recipe, and their units.
std::pair<std::string, std::string> labelled(std::string path) {
    static const std::map<std::string, std::pair<const char*, const char*>> known = {
        {"threshold", {"threshold", ""}},
        {"smoothing", {"smoothing", " mm"}},
        {"keep_members", {"keeps thin members", ""}},
        {"surface_spacing", {"surface spacing", " mm"}},
        {"element_size", {"element size", " mm"}},
        {"hotspot_share", {"hotspot sensitivity", ""}},
        {"smallest_island", {"smallest island", " mm³"}},
        {"thin_members / smallest", {"smallest member", " mm"}},
        {"edge_error", {"chord error of rounded edges", " mm"}},
        {"design_edges / radius", {"radius of the design space's edges", " mm"}},
        {"check / level", {"check level", ""}},
        {"check / original", {"checks the original", ""}},
        {"check / rebuilt", {"checks the rebuilt solid", ""}},
        {"rebuild / face_size", {"cage face size", " mm"}},
        {"rebuild / tolerance", {"cage tolerance", " mm"}},
        {"draft / add", {"adds draft", ""}},
        {"draft / angle", {"draft angle", "°"}},
    };
    if (const auto at = known.find(path); at != known.end()) return {at->second.first, at->second.second};
    std::replace(path.begin(), path.end(), '_', ' ');
    const std::string last = path.substr(path.rfind('/') == std::string::npos ? 0 : path.rfind('/') + 2);
    static const char* lengths[] = {"amount",    "radius", "centre", "edge", "diameter", "length",
                                    "low",       "high",   "from",   "to",   "blend",    "radius from",
                                    "radius to", "origin", "size",   "depth"};
    for (const char* l : lengths)
        if (last == l) return {path, " mm"};
    return {path, ""};
}

std::vector<Difference> compared(const std::map<std::string, std::string>& a,
                                 const std::map<std::string, std::string>& b) {
    std::vector<Difference> list;
    auto add = [&](const std::string& path, const std::string* before, const std::string* after) {
        auto [what, unit] = labelled(path);
        std::string level;
        auto text = [&, u = unit](const std::string* s) {
            if (!s) return std::string();
            if (path == "check / level") {
                const int n = std::clamp(std::atoi(s->c_str()), 0, 2);
                return std::string(name(static_cast<Level>(n)));
            }
            return *s + u;
        };
        list.push_back({what, text(before), text(after)});
    };
    for (const auto& [path, before] : a) {
        const auto at = b.find(path);
        if (at == b.end())
            add(path, &before, nullptr);
        else if (at->second != before)
            add(path, &before, &at->second);
    }
    for (const auto& [path, after] : b)
        if (!a.count(path)) add(path, nullptr, &after);
    return list;
}

}  // namespace

std::vector<Difference> differences(const Part& part, const Recipe& before, const Recipe& after) {
    auto flat = [](const Recipe& r) {
        json j = recipeJson(r);
        j.erase("named_numbers");
        std::map<std::string, std::string> out;
        flatten(j, "", out);
        return out;
    };
    std::vector<Difference> list = compared(flat(before), flat(after));
    // numbers of the part file: what a recipe does not change is as the file says
    auto valueOf = [&](const Recipe& r, const PartNumberInfo& info) {
        for (const PartNumber& n : r.numbers)
            if (n.place == info.place) return n.value;
        return info.value;
    };
    for (const PartNumberInfo& info : partNumbers(part)) {
        const double a = valueOf(before, info), b = valueOf(after, info);
        const std::string u = info.unit.empty() ? "" : " " + info.unit;
        if (a != b) list.push_back({info.label, plainNumber(a) + u, plainNumber(b) + u});
    }
    return list;
}

std::vector<Difference> partDifferences(const std::string& before, const std::string& after) {
    std::map<std::string, std::string> a, b;
    flatten(json::parse(before), "", a);
    flatten(json::parse(after), "", b);
    return compared(a, b);
}

}  // namespace escultura::store

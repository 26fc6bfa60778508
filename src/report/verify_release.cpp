#include <stdlib.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <functional>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "base/signature.hpp"
#include "duty/part_numbers.hpp"
#include "duty/strict_json.hpp"
#include "exchange/writers.hpp"
#include "judge/findings.hpp"
#include "judge/requirements.hpp"
#include "judge/summary.hpp"
#include "project/run.hpp"
#include "report/made_field_files.hpp"
#include "report/release_files.hpp"
#include "report/report.hpp"
#include "store/state_text.hpp"

namespace escultura::report {
namespace {

using namespace escultura::duty;
using namespace escultura::stages;
using namespace escultura::project;
using namespace escultura::store;
using namespace escultura::judge;
namespace fs = std::filesystem;
using nlohmann::json;

constexpr const char* notVerified = "The release cannot be verified.";

json readJson(const std::string& path) {
    return parseStrictJson(readWholeText(path, notVerified), path, notVerified);
}

/// Whether a path of the manifest stays in the folder, written in the one plain way.
bool isPlainPath(const std::string& path) {
    const fs::path p(path);
    if (path.empty() || p.is_absolute() || p.lexically_normal().string() != path) return false;
    return std::none_of(p.begin(), p.end(), [](const fs::path& part) { return part == ".." || part == "."; });
}

const char* kindOf(const fs::file_status& status) {
    switch (status.type()) {
        case fs::file_type::not_found:
            return "not there";
        case fs::file_type::symlink:
            return "a link";
        case fs::file_type::directory:
            return "a folder";
        case fs::file_type::fifo:
            return "a pipe";
        case fs::file_type::socket:
            return "a socket";
        case fs::file_type::regular:
            return "a file";
        default:
            return "a device, or something else";
    }
}

void verifyFiles(const std::string& folder, const json& manifest, std::vector<VerifiedItem>& items) {
    std::set<std::string> listed{"manifest.json", "manifest.sig", "signer.pub"}, folders;
    std::error_code failed;
    for (const auto& f : manifest.at("files")) {
        const std::string path = f.at("path"), stated = f.at("sha256");
        VerifiedItem item{path, "SHA-256 " + stated.substr(0, 16), "", false};
        const std::string full = folder + "/" + path;
        if (!isPlainPath(path)) {
            item.expected = "a plain path inside the folder";
            item.found = "'" + path.substr(0, 60) + "'";
        } else if (!listed.insert(path).second) {
            item.expected = "each file once";
            item.found = "named twice";
        } else if (const auto status = fs::symlink_status(full, failed); !fs::is_regular_file(status)) {
            item.found = kindOf(status);
        } else {
            const std::string sum = sha256OfFile(full);
            item.found = "SHA-256 " + sum.substr(0, 16);
            item.holds = sum == stated && fs::file_size(full) == f.at("bytes");
            for (fs::path p = fs::path(path).parent_path(); !p.empty(); p = p.parent_path()) folders.insert(p.string());
        }
        items.push_back(item);
    }
    for (const auto& entry : fs::recursive_directory_iterator(folder)) {
        const std::string path = entry.path().lexically_relative(folder).string();
        const auto status = entry.symlink_status();
        const bool known = fs::is_directory(status) ? folders.count(path) > 0 : listed.count(path) > 0;
        if (!known)
            items.push_back({path, "only what the manifest names", std::string(kindOf(status)) + " more", false});
    }
    // the manifest's own text, the sign-off with it
    json bare = manifest;
    bare.erase("sum");
    const std::string sum = sha256(bare.dump()), stated = manifest.value("sum", std::string("none"));
    items.push_back(
        {"manifest and sign-off", "SHA-256 " + stated.substr(0, 16), "SHA-256 " + sum.substr(0, 16), sum == stated});
}

void verifySignature(const std::string& folder, const std::string& openKey, std::vector<VerifiedItem>& items) {
    const std::string path = folder + "/manifest.sig", own = folder + "/signer.pub";
    std::error_code failed;
    if (!fs::exists(fs::symlink_status(path, failed))) {
        items.push_back({"signature", openKey.empty() ? "none needed" : "by key " + fingerprintOf(openKey),
                         "not signed cryptographically", openKey.empty()});
        return;
    }
    const std::string key = openKey.empty() ? readWholeText(own, notVerified) : openKey;
    const bool holds =
        isSignatureOf(readWholeText(folder + "/manifest.json", notVerified), readWholeText(path, notVerified), key);
    items.push_back(
        {"signature",
         "by key " + fingerprintOf(key) + (openKey.empty() ? " (the folder's own: compare it with the signer's)" : ""),
         holds ? "holds" : "not of this manifest and key", holds});
}

/// Compares a statement with what was made again, value by value.
class Comparison {
  public:
    explicit Comparison(std::vector<VerifiedItem>& items) : items_(items) {}

    void compare(const std::string& place, const json& stated, const json& found) {
        const std::string name = place.substr(place.rfind('/') + 1);
        if (changing.count(name)) return;
        if (name == "path" && place.find("/features/") != std::string::npos) return;  // its copy lies in inputs/
        if (stated.is_object() && found.is_object()) {
            for (const auto& [key, value] : stated.items()) {
                if (changing.count(key)) continue;
                if (found.contains(key))
                    compare(place + "/" + key, value, found[key]);
                else
                    tell(place + "/" + key, value, json("nothing"), false);
            }
            for (const auto& [key, value] : found.items())
                if (!stated.contains(key) && !changing.count(key))
                    tell(place + "/" + key, json("nothing"), value, false);
        } else if (stated.is_array() && found.is_array() && stated.size() == found.size()) {
            double size = 0;  // of a vector: a component may be rounding alone
            for (const auto& v : found)
                if (v.is_number()) size = std::max(size, std::abs(v.get<double>()));
            for (std::size_t i = 0; i < stated.size(); ++i)
                if (stated[i].is_number() && found[i].is_number())
                    number(place + "/" + std::to_string(i), stated[i], found[i], size);
                else
                    compare(place + "/" + std::to_string(i), stated[i], found[i]);
        } else if (stated.is_number() && found.is_number()) {
            if (rounding.count(name))  // small numbers that are rounding alone
                tell(place, stated, found, stated.get<double>() <= 1e-6 && found.get<double>() <= 1e-6);
            else
                number(place, stated, found, std::abs(found.get<double>()));
        } else {
            tell(place, stated, found, stated == found);
        }
    }
    void tell(const std::string& place, const json& stated, const json& found, bool holds) {
        auto text = [](const json& v) {
            return v.is_number_float() ? formatNumber(v.get<double>(), 9)
                   : v.is_string()     ? v.get<std::string>()
                                       : v.dump();
        };
        items_.push_back({place, text(stated).substr(0, 120), text(found).substr(0, 120), holds});
    }

  private:
    /// The same inputs give the same bits; other processors round otherwise.
    void number(const std::string& place, const json& stated, const json& found, double size) {
        const double a = stated, b = found;
        tell(place, stated, found, std::abs(a - b) <= 1e-6 * std::max(size, 1e-12));
    }
    /// What differs from run to run, or is told by others than the inputs.
    const std::set<std::string> changing{"timings_s", "peak_memory_MB", "solver_memory_MB",
                                         "seconds",   "proposal",       "iterations"};
    const std::set<std::string> rounding{"equilibrium_error", "residual"};
    std::vector<VerifiedItem>& items_;
};

/// Tests the hotspots again that the summary says are tested, in the groups that were refined together, and signs what
/// it says is signed.
void repeatTestsAndDispositions(Project& p, const json& summary, Progress& progress) {
    Variant& v = p.variants.at(0);
    std::map<int, std::vector<std::string>> groups;
    for (const auto& f : summary.at("findings"))
        if (f.contains("test")) {
            groups[f.at("test").at("group")].push_back(f.at("id"));
            if (f.at("test").contains("further"))
                for (const auto& x : f.at("test").at("further")) groups[x.at("group")].push_back(f.at("id"));
        }
    for (const auto& [number, ids] : groups) testHotspots(p, v.recipe, ids, progress);
    const auto findings = findingsOf(p, v.recipe);
    for (const auto& f : summary.at("findings")) {
        const Finding* found = findFinding(findings, f.at("id"));
        if (!found || !f.contains("disposition")) continue;
        const json& d = f.at("disposition");
        if (d.at("holds") == true)
            sign(v, signedDisposition(p, v.recipe, *found, d.at("decision"), d.at("reason"), d.at("by"), d.at("date")));
    }
}

/// A folder for files that are made again, gone with its owner.
struct Scratch {
    Scratch() {
        std::string name = (fs::temp_directory_path() / "escultura-verify-XXXXXX").string();
        if (!mkdtemp(name.data()))
            throw InputError(ErrorDetail{notVerified, name, {}, "a folder for temporary files", "none can be made"});
        path = name;
    }
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;
    ~Scratch() {
        std::error_code ignored;
        fs::remove_all(path, ignored);
    }
    std::string path;
};

/// Lines of each chapter of a report, by title; the head is "".
std::map<std::string, std::vector<std::string>> chaptersOf(const std::string& html) {
    std::map<std::string, std::vector<std::string>> chapters;
    std::string title;
    std::istringstream in(html);
    for (std::string line; std::getline(in, line);) {
        if (line.rfind("<h2>", 0) == 0) title = line;
        chapters[title].push_back(line);
    }
    return chapters;
}

/// Every line of a report that its variant alone decides must stand in the stated one.
void verifyReport(const std::string& folder, const Project& p, const json& manifest, std::vector<VerifiedItem>& items) {
    std::vector<std::string> pictures;
    for (const auto& f : manifest.at("files"))
        if (const fs::path path = f.at("path").get<std::string>(); path.parent_path() == "pictures")
            pictures.push_back(path.stem().string());
    Release release;
    if (manifest.contains("release")) {
        const json& r = manifest.at("release");
        release.number = r.at("number");
        release.variantName = p.variants.at(0).name;
        release.name = r.at("name");
        release.role = r.at("role");
        release.date = r.at("date");
        release.remark = r.at("remark");
    }
    const std::string again =
        withoutPages(reportHtml(p, p.variants.at(0), pictures, manifest.contains("release") ? &release : nullptr));
    const auto stated = chaptersOf(readWholeText(folder + "/report.html", notVerified)), found = chaptersOf(again);
    std::size_t missing = 0, compared = 0;
    std::string first;
    for (const auto& [title, lines] : found) {
        if (title.find("Comparison") != std::string::npos) continue;  // of variants that are not in the folder
        const auto at = stated.find(title);
        const std::set<std::string> there =
            at == stated.end() ? std::set<std::string>() : std::set<std::string>(at->second.begin(), at->second.end());
        for (const std::string& line : lines) {
            if (line.rfind("<p>Source: ", 0) == 0) continue;  // where the field was read from
            ++compared;
            if (there.count(line)) continue;
            if (missing++ == 0) first = line;
        }
    }
    items.push_back({"report", std::to_string(compared) + " lines as made again",
                     missing ? std::to_string(missing) + " differ, the first: " + first.substr(0, 160) : "the same",
                     missing == 0});
}

void verifyFigures(const std::string& folder, const json& manifest, std::vector<VerifiedItem>& items,
                   Progress& progress) {
    const json summary = readJson(folder + "/summary.json"), recipe = readJson(folder + "/recipe.json");
    Project p = openPart(folder + "/part.json", progress);
    Variant& v = p.variants.at(0);
    v.recipe = recipeFrom(recipe.at("recipe"));
    v.name = recipe.at("variant");
    if (v.recipe.field.how == FieldChoice::How::made)
        p.results->store(v.recipe.field.made, readMadeField(folder + "/inputs", progress));
    nameNumbers(p.part, v.recipe.numbers);
    if (summary.contains("rebuild")) run(p, v.recipe, Stage::rebuild, progress);
    run(p, v.recipe, Stage::findings, progress);
    repeatTestsAndDispositions(p, summary, progress);

    Comparison comparison(items);
    json again = json::parse(summaryJson(p, v, {}));
    // where a field was read from is no statement about the part
    if (again.contains("field")) again["field"].erase("source");
    json stated = summary;
    if (stated.contains("field")) stated["field"].erase("source");
    comparison.compare("summary", stated, again);
    comparison.tell("manifest/part", manifest.at("part"), json(p.part.name), manifest.at("part") == p.part.name);
    comparison.tell("manifest/variant", manifest.at("variant"), json(v.name), manifest.at("variant") == v.name);
    const json version = manifest.at("versions").at("escultura");
    comparison.tell("manifest/versions/escultura", version, json(ESCULTURA_VERSION), version == ESCULTURA_VERSION);
    const std::vector<Blocker> blockers = releaseBlockers(p, v);
    const bool open = blockers.empty();
    comparison.tell("manifest/open_for_release", manifest.at("open_for_release"), json(open),
                    manifest.at("open_for_release") == open);
    if (manifest.contains("release") && !open)
        items.push_back({"release", "nothing in its way", blockers.front().text, false});

    progress.step("Comparing the files");
    const Scratch scratch;
    auto file = [&](const std::string& name, const std::function<void(const std::string&)>& write,
                    const std::function<std::string(const std::string&, const std::string&)>& differs) {
        const std::string now = scratch.path + "/" + name, then = folder + "/" + name;
        write(now);
        std::string problem;
        if (!fs::is_regular_file(fs::symlink_status(then)))
            problem = "not there";
        else if (sha256OfFile(now) != sha256OfFile(then))
            problem = differs(now, then);
        items.push_back({name + ", contents", "as made again from the inputs", problem.empty() ? "the same" : problem,
                         problem.empty()});
    };
    auto stl = [&](const surface::TriMesh& mesh) {
        return [&mesh, &p](const std::string& path) { exchange::writeStl(path, mesh, p.part.name); };
    };
    auto sameStl = [](const std::string& a, const std::string& b) -> std::string {
        const auto x = exchange::readStl(a), y = exchange::readStl(b);
        if (x.position.size() != y.position.size())
            return std::to_string(y.triangle.size()) + " triangles, not " + std::to_string(x.triangle.size());
        double off = 0;
        for (std::size_t n = 0; n < x.position.size(); ++n) off = std::max(off, (x.position[n] - y.position[n]).norm());
        return off <= 1e-3 ? std::string() : "a vertex " + formatNumber(off, 3) + " mm away";
    };
    if (const auto s = p.surface(v.recipe)) file("surface.stl", stl(s->mesh), sameStl);
    if (const auto b = p.rebuild(v.recipe); b && summary.contains("rebuild"))
        file("solid.stl", stl(b->solid.mesh), sameStl);
    const auto check = p.check(v.recipe);
    file(
        "results.vtu",
        [&](const std::string& path) { exchange::writeVtu(path, check->mesh, resultArrays(p.part, *check)); },
        [](const std::string& a, const std::string& b) { return exchange::differenceOfVtu(a, b, 1e-6); });
    verifyReport(folder, p, manifest, items);
}

}  // namespace

std::vector<VerifiedItem> verifyRelease(const std::string& folder, bool rerun, Progress& progress,
                                        const std::string& openKey) {
    const json manifest = readJson(folder + "/manifest.json");
    std::vector<VerifiedItem> items;
    try {
        if (manifest.at("format") != "escultura-release")
            throw InputError(ErrorDetail{"The release cannot be verified.", folder + "/manifest.json", "format",
                                         "escultura-release", manifest.at("format").dump()});
        verifyFiles(folder, manifest, items);
        verifySignature(folder, openKey, items);
        if (rerun) verifyFigures(folder, manifest, items, progress);
    } catch (const json::exception& e) {
        throw InputError(ErrorDetail{"The release cannot be verified.", folder, "manifest, summary or recipe",
                                     "complete ones", e.what()});
    }
    return items;
}

}  // namespace escultura::report

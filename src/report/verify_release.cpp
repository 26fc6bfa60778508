#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/quantity.hpp"
#include "project/comparison.hpp"
#include "project/part_numbers.hpp"
#include "project/state_text.hpp"
#include "report/report.hpp"

namespace escultura::report {
namespace {

using namespace escultura::project;
namespace fs = std::filesystem;
using nlohmann::json;

json readJson(const std::string& path) {
    std::ifstream in(path);
    std::stringstream text;
    text << in.rdbuf();
    if (!in)
        throw InputError(ErrorDetail{"The release cannot be verified.", path, {}, "a file", "nothing readable there"});
    try {
        return json::parse(text.str());
    } catch (const json::exception& e) {
        throw InputError(ErrorDetail{"The release cannot be verified.", path, {}, "JSON", e.what()});
    }
}

void verifyFiles(const std::string& folder, const json& manifest, std::vector<VerifiedItem>& items) {
    std::set<std::string> listed{"manifest.json"};
    for (const auto& f : manifest.at("files")) {
        const std::string path = f.at("path");
        listed.insert(path);
        const std::string full = folder + "/" + path;
        VerifiedItem item{path, "SHA-256 " + f.at("sha256").get<std::string>().substr(0, 16), "", false};
        if (!fs::is_regular_file(full)) {
            item.found = "not there";
        } else {
            const std::string sum = sha256OfFile(full);
            item.found = "SHA-256 " + sum.substr(0, 16);
            item.holds = sum == f.at("sha256") && fs::file_size(full) == f.at("bytes");
        }
        items.push_back(item);
    }
    for (const auto& entry : fs::recursive_directory_iterator(folder)) {
        if (!entry.is_regular_file()) continue;
        const std::string path = fs::relative(entry.path(), folder).string();
        if (!listed.count(path)) items.push_back({path, "only files of the manifest", "not in the manifest", false});
    }
}

void verifyFigures(const std::string& folder, std::vector<VerifiedItem>& items, Progress& progress) {
    const json summary = readJson(folder + "/summary.json"), recipe = readJson(folder + "/recipe.json");
    Project p = openPart(folder + "/part.json", progress);
    Variant& v = p.variants.at(0);
    v.recipe = recipeFrom(recipe.at("recipe"));
    nameNumbers(p.part, v.recipe.numbers);
    run(p, v.recipe, Stage::check, progress);
    const auto check = p.check(v.recipe);
    auto compare = [&](const std::string& what, double expected, double found, const std::string& unit) {
        // the same inputs give the same bits; other processors round otherwise
        const bool holds = std::abs(found - expected) <= 1e-6 * std::max(std::abs(expected), 1e-12);
        items.push_back({what, formatNumber(expected, 9) + unit, formatNumber(found, 9) + unit, holds});
    };
    const json& stated = summary.at("check");
    compare("smallest safety factor", stated.at("envelope").at("min_safety_factor"), check->minSafetyFactor, "");
    compare("elements", summary.at("mesh").at("tetrahedra"), static_cast<double>(check->mesh.tet.size()), "");
    compare("volume of the mesh", summary.at("mesh").at("volume_mm3"), check->quality.volume, " mm3");
    for (const auto& c : stated.at("cases"))
        for (const CaseResult& x : check->cases) {
            if (x.name != c.at("name")) continue;
            compare(x.name + ": safety factor", c.at("min_safety_factor"), x.minSafetyFactor, "");
            compare(x.name + ": displacement", c.at("max_displacement_mm"), x.maxDisplacement, " mm");
        }
}

}  // namespace

std::vector<VerifiedItem> verifyRelease(const std::string& folder, bool rerun, Progress& progress) {
    const json manifest = readJson(folder + "/manifest.json");
    std::vector<VerifiedItem> items;
    try {
        if (manifest.at("format") != "escultura-release")
            throw InputError(ErrorDetail{"The release cannot be verified.", folder + "/manifest.json", "format",
                                         "escultura-release", manifest.at("format").dump()});
        verifyFiles(folder, manifest, items);
        if (rerun) verifyFigures(folder, items, progress);
    } catch (const json::exception& e) {
        throw InputError(ErrorDetail{"The release cannot be verified.", folder, "manifest, summary or recipe",
                                     "complete ones", e.what()});
    }
    return items;
}

}  // namespace escultura::report

#include "store/storage.hpp"

/// Project files: one SQLite database. Tables: meta(key, kind, value), result(key, kind, data),
/// history(position, kind, data).

#include <filesystem>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "exchange/writers.hpp"
#include "project/project.hpp"
#include "project/run.hpp"
#include "store/state_text.hpp"
#include "store/stored_results.hpp"

namespace escultura::store {
namespace {

constexpr int formatVersion = 4;
namespace fs = std::filesystem;

/// Where the part file is, both from anywhere and from beside the project: one of them outlives a move.
void notePartPath(nlohmann::json& head, const std::string& part, const std::string& project) {
    if (part.empty()) return;
    const fs::path absolute = fs::absolute(part).lexically_normal();
    head["part_path"] = absolute.string();
    head["part_path_from_project"] =
        absolute.lexically_relative(fs::absolute(project).lexically_normal().parent_path()).string();
}

std::string partPath(const nlohmann::json& head, const std::string& project) {
    const std::string absolute = head.at("part_path");
    std::error_code failed;
    if (fs::exists(absolute, failed) || !head.contains("part_path_from_project")) return absolute;
    const fs::path beside =
        (fs::absolute(project).parent_path() / head.at("part_path_from_project").get<std::string>()).lexically_normal();
    return fs::exists(beside, failed) ? beside.string() : absolute;
}

}  // namespace

void saveProject(const Project& project, const std::string& path) {
    std::error_code failed;
    if (fs::exists(path, failed)) {  // never over what is something else, such as the part file
        char start[16] = {};
        std::ifstream(path, std::ios::binary).read(start, sizeof start);
        if (fs::is_directory(path, failed) ||
            (fs::file_size(path, failed) > 0 && std::string(start, 15) != "SQLite format 3"))
            throw InputError(ErrorDetail{"The project cannot be saved there.",
                                         path,
                                         {},
                                         "a new file, or a project to replace",
                                         "something that is not an Escultura project"});
    }
    exchange::replaceFile(path, [&](const std::string& temporary) {
        std::error_code ignored;
        std::filesystem::remove(temporary, ignored);
        Database db(temporary, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
        db.execute(
            "PRAGMA journal_mode=OFF; PRAGMA synchronous=FULL; PRAGMA application_id=1163084627; PRAGMA "
            "user_version=4; BEGIN;"
            "CREATE TABLE meta(key TEXT PRIMARY KEY, kind TEXT, value BLOB);"
            "CREATE TABLE history(position INTEGER PRIMARY KEY, kind TEXT, data BLOB);");
        db.execute(resultTable);
        nlohmann::json head = projectJson(project);
        head["version"] = formatVersion;
        notePartPath(head, project.part.path, path);
        const std::string text = head.dump();
        db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "project", "json", {text.begin(), text.end()});
        db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "part", "json",
                  {project.part.text.begin(), project.part.text.end()});
        for (std::size_t n = 0; n < project.part.fields.size(); ++n) {
            const auto source = project.source(n);
            if (!source) continue;
            db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "field " + std::to_string(n), sealedField,
                      fieldBytes(source->field));
        }
        std::set<std::string> stored;
        storeResults(db, *project.results, stored);
        Digest sum;
        sum.add(text).add(project.part.text);
        for (std::size_t n = 0; n < project.history.size(); ++n) {
            const std::string entry = historyJson(project.history[n]).dump();
            sum.add(entry);
            db.insert("INSERT INTO history VALUES(?1, ?2, ?3)", std::to_string(n), "json",
                      {entry.begin(), entry.end()});
        }
        const std::string seal = sum.hex();
        db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "sum", "sha256", {seal.begin(), seal.end()});
        db.execute("COMMIT;");
    });
}

Project loadProject(const std::string& path) {
    if (!std::filesystem::is_regular_file(path))
        throw InputError(ErrorDetail{"The project file cannot be opened.",
                                     path,
                                     {},
                                     "an Escultura project (.escultura)",
                                     "no readable file there"});
    Database db(path, SQLITE_OPEN_READONLY);
    std::string head, part, seal;
    std::map<std::size_t, field::DensityField> fields;
    try {
        db.forRows("SELECT key, kind, value FROM meta",
                   [&](const std::string& key, const std::string& kind, const char* data, std::size_t size) {
                       if (key == "sum") seal.assign(data, size);
                       if (key == "project") head.assign(data, size);
                       if (key == "part") part.assign(data, size);
                       if (key.rfind("field ", 0) == 0 && key.size() < 9)
                           fields[std::strtoul(key.c_str() + 6, nullptr, 10)] = fieldFromBytes(kind, data, size);
                   });
        // earlier projects have no seal
        std::vector<std::string> history;
        db.forRows("SELECT position, kind, data FROM history ORDER BY position",
                   [&](const std::string&, const std::string&, const char* data, std::size_t size) {
                       history.emplace_back(data, size);
                   });
        Digest sum;
        sum.add(head).add(part);
        for (const std::string& entry : history) sum.add(entry);
        if (!seal.empty() && seal != sum.hex())
            throw InputError(ErrorDetail{"The project file is damaged.", path, "project, part and history",
                                         "texts as they were written", "others"});
        const auto j = nlohmann::json::parse(head);
        if (j.at("version") != formatVersion)
            throw InputError(ErrorDetail{"The project was written by another version.", path, "version",
                                         std::to_string(formatVersion), j.at("version").dump()});
        Project p;
        p.part = parsePart(part, partPath(j, path));
        applyProjectJson(p, j);
        if (p.variants.empty() || p.open >= p.variants.size() || p.baseline >= p.variants.size())
            throw InputError(ErrorDetail{"The project file is damaged.", path, "variants",
                                         "at least one variant, and the open one among them", "something else"});
        for (auto& [n, field] : fields) {
            if (n >= p.part.fields.size()) continue;
            field::validate(field);
            adoptField(p, n, std::move(field));
        }
        if (fields.empty() && !p.part.fields.empty())
            throw InputError(
                ErrorDetail{"The project file is damaged.", path, "fields", "at least one density field", "none"});
        Progress progress;
        restoreResults(db, *p.results);  // made fields among them
        for (const Variant& v : p.variants) run(p, v.recipe, Stage::field, progress);
        for (const std::string& entry : history) p.history.push_back(historyFrom(nlohmann::json::parse(entry)));
        return p;
    } catch (const InputError& e) {
        ErrorDetail d = e.detail();
        if (d.file.empty()) d.file = path;
        throw InputError(d);
    } catch (const nlohmann::json::exception& e) {
        throw InputError(
            ErrorDetail{"The project file is damaged.", path, "project", "a complete description", e.what()});
    }
}

}  // namespace escultura::store

#include "store/journal.hpp"

#include <algorithm>
#include <filesystem>
#include <mutex>
#include <nlohmann/json.hpp>

#include "project/run.hpp"
#include "store/database.hpp"
#include "store/file_lock.hpp"
#include "store/state_text.hpp"
#include "store/storage.hpp"
#include "store/stored_results.hpp"

namespace escultura::store {
namespace {

constexpr int keptStates = 100;

/// Steps and results; the lock stays.
void removeData(const std::string& path) {
    std::error_code ignored;
    for (const char* end : {"", "-wal", "-shm", ".results", ".results-wal", ".results-shm"})
        std::filesystem::remove(path + end, ignored);
}

void removeFiles(const std::string& path) {
    removeData(path);
    std::error_code ignored;
    std::filesystem::remove(lockPath(path), ignored);
}

std::string resultsPath(const std::string& path) {
    return path + ".results";
}

std::vector<char> bytes(const std::string& text) {
    return {text.begin(), text.end()};
}

}  // namespace

void discard(const Unsaved& unsaved) {
    removeFiles(unsaved.path);
}

struct Journal::Impl {
    std::string path;
    int lockFile = -1;
    std::unique_ptr<Database> db;
    int count = 0;
    std::mutex keeping;
    std::unique_ptr<Database> results;
    std::set<std::string> kept;
};

Journal::Journal(const std::string& path, const Project& project, const std::string& projectPath, bool resultsSaved)
    : impl_(std::make_unique<Impl>()) {
    impl_->path = path;
    std::error_code ignored;
    std::filesystem::create_directories(std::filesystem::path(path).parent_path(), ignored);
    impl_->lockFile = lock(path);
    if (impl_->lockFile < 0)
        throw InputError(ErrorDetail{"The recovery file cannot be used.",
                                     path,
                                     {},
                                     "a file that can be written and that no other window holds",
                                     "it cannot be locked"});
    removeData(path);
    if (resultsSaved && !projectPath.empty()) impl_->kept = storedNames(*project.results);
    impl_->db = std::make_unique<Database>(path, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
    impl_->db->execute(
        "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;"
        "BEGIN; CREATE TABLE meta(key TEXT PRIMARY KEY, kind TEXT, value BLOB);"
        "CREATE TABLE step(position INTEGER PRIMARY KEY, kind TEXT, data BLOB);");
    auto meta = [&](const char* key, const std::string& value) {
        impl_->db->insert("INSERT INTO meta VALUES(?1, ?2, ?3)", key, "text", bytes(value));
    };
    meta("part_name", project.part.name);
    meta("part_path", project.part.path);
    meta("project_path", projectPath);
    impl_->db->insert("INSERT INTO step VALUES(?1, ?2, ?3)", "0", "json",
                      bytes(historyJson({"", "", "start", stateText(project)}).dump()));
    impl_->db->execute("COMMIT;");
}

Journal::~Journal() {
    if (!impl_) return;
    impl_->db.reset();
    if (impl_->lockFile >= 0) ::close(impl_->lockFile);
}

void Journal::append(const HistoryEntry& entry) {
    impl_->db->insert("INSERT INTO step VALUES(?1, ?2, ?3)", std::to_string(++impl_->count), "json",
                      bytes(historyJson(entry).dump()));
}

void Journal::keep(const Results& results) {
    const std::lock_guard lock(impl_->keeping);
    if (!impl_->db) return;  // given up
    if (!impl_->results) {
        impl_->results =
            std::make_unique<Database>(resultsPath(impl_->path), SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
        impl_->results->execute("PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;");
        impl_->results->execute(resultTable);
    }
    storeResults(*impl_->results, results, impl_->kept);
}

void Journal::discard() {
    const std::lock_guard lock(impl_->keeping);
    impl_->db.reset();
    impl_->results.reset();
    removeFiles(impl_->path);
    if (impl_->lockFile >= 0) ::close(impl_->lockFile);
    impl_->lockFile = -1;
}

const std::string& Journal::path() const {
    return impl_->path;
}

std::optional<Unsaved> readJournal(const std::string& path) {
    const int file = lock(path);
    if (file < 0) return std::nullopt;
    struct Unlock {
        int file;
        ~Unlock() { ::close(file); }
    } unlock{file};
    Database db(path, SQLITE_OPEN_READWRITE);  // a write-ahead log is folded in
    Unsaved u;
    u.path = path;
    db.forRows("SELECT key, kind, value FROM meta",
               [&](const std::string& key, const std::string&, const char* data, std::size_t size) {
                   if (key == "part_name") u.partName.assign(data, size);
                   if (key == "part_path") u.partPath.assign(data, size);
                   if (key == "project_path") u.projectPath.assign(data, size);
               });
    db.forRows("SELECT position, kind, data FROM step ORDER BY position",
               [&](const std::string&, const std::string&, const char* data, std::size_t size) {
                   u.steps.push_back(historyFrom(nlohmann::json::parse(data, data + size)));
               });
    if (u.steps.size() < 2) return std::nullopt;
    return u;
}

std::vector<Unsaved> unsavedWork(const std::string& folder) {
    std::vector<std::pair<std::filesystem::file_time_type, Unsaved>> found;
    std::error_code failed;
    for (const auto& entry : std::filesystem::directory_iterator(folder, failed)) {
        if (entry.path().extension() != ".journal") continue;
        try {
            if (auto u = readJournal(entry.path().string())) found.emplace_back(entry.last_write_time(), std::move(*u));
        } catch (const std::exception&) {
            // not a journal, or one whose very start was not complete: nothing is lost in it
        }
    }
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<Unsaved> out;
    for (auto& [time, u] : found) out.push_back(std::move(u));
    return out;
}

Project recover(const Unsaved& u, Progress& progress) {
    std::error_code ignored;
    // a part that no file held yet is in its states
    const auto withState = std::find_if(u.steps.begin(), u.steps.end(), [](const auto& s) { return !s.state.empty(); });
    Project p = !u.projectPath.empty() && std::filesystem::exists(u.projectPath, ignored) ? loadProject(u.projectPath)
                : !std::filesystem::exists(u.partPath, ignored) && withState != u.steps.end()
                    ? openPartText(partTextOf(withState->state), u.partPath, progress)
                    : openPart(u.partPath, progress);
    for (auto at = u.steps.rbegin(); at != u.steps.rend(); ++at)
        if (!at->state.empty()) {
            applyState(p, at->state);
            break;
        }
    p.history.insert(p.history.end(), u.steps.begin() + 1, u.steps.end());
    if (std::filesystem::exists(resultsPath(u.path), ignored)) try {
            Database db(resultsPath(u.path), SQLITE_OPEN_READWRITE);
            restoreResults(db, *p.results);
        } catch (const std::exception&) {
            // killed while they were written: they are computed again
        }
    for (const Variant& v : p.variants) run(p, v.recipe, Stage::field, progress);
    return p;
}

HistoryEntry record(Project& project, const std::string& text, const std::string& who, const std::string& time) {
    HistoryEntry e{time, who, text, stateText(project)};
    project.history.push_back(e);
    int states = 0;
    for (auto at = project.history.rbegin(); at != project.history.rend(); ++at)
        if (!at->state.empty() && ++states > keptStates) at->state.clear();
    return e;
}

}  // namespace escultura::store

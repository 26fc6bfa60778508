#include "report/release_target.hpp"

#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <set>

#include "base/error.hpp"
#include "duty/strict_json.hpp"
#include "exchange/writers.hpp"

namespace escultura::report {
namespace {

namespace fs = std::filesystem;

constexpr const char* notWritten = "The release folder cannot be written.";
constexpr const char* expectedTarget = "a folder that is empty or not there yet";

/// Path without a trailing slash, with links followed.
fs::path settled(const std::string& target) {
    std::error_code failed;
    fs::path p = fs::weakly_canonical(fs::absolute(target), failed);
    if (failed) p = fs::absolute(target).lexically_normal();
    return p.has_filename() ? p : p.parent_path();
}

[[noreturn]] void refuse(const fs::path& target, const std::string& expected, const std::string& found) {
    throw InputError(ErrorDetail{notWritten, target.string(), {}, expected, found});
}

void requireFree(const fs::path& target, bool replace) {
    std::error_code failed;
    if (!fs::exists(fs::symlink_status(target, failed))) return;
    if (!fs::is_directory(target, failed)) refuse(target, expectedTarget, "a file");
    std::set<std::string> there;
    for (fs::recursive_directory_iterator at(target, failed), end; !failed && at != end; at.increment(failed))
        if (!at->is_directory()) there.insert(at->path().lexically_relative(target).string());
    if (failed) refuse(target, "a folder that can be read", failed.message());
    if (there.empty()) return;
    if (!there.count("manifest.json"))
        refuse(target, expectedTarget,
               std::to_string(there.size()) + (there.size() == 1 ? " file, '" : " files, such as '") + *there.begin() +
                   "'");
    const std::string path = (target / "manifest.json").string();
    try {
        const auto manifest = duty::parseStrictJson(duty::readWholeText(path, notWritten), path, notWritten);
        if (manifest.at("format") != "escultura-release") refuse(target, expectedTarget, "other files");
        if (manifest.contains("release"))
            refuse(target, expectedTarget,
                   "release " + manifest["release"].at("number").dump() + ", signed by " +
                       manifest["release"].at("name").get<std::string>());
        if (!replace) refuse(target, std::string(expectedTarget) + ", or --replace", "an unsigned release");
        for (const char* own : {"manifest.json", "manifest.sig", "signer.pub"}) there.erase(own);
        for (const auto& f : manifest.at("files")) there.erase(f.at("path").get<std::string>());
        if (!there.empty())
            refuse(target, "nothing but the release that is replaced",
                   "'" + *there.begin() + "', which is not one of its files");
    } catch (const nlohmann::json::exception&) {
        refuse(target, expectedTarget, "a manifest that cannot be understood");
    }
}

std::string prefixOf(const fs::path& target) {
    return "." + target.filename().string() + ".draft-";
}

/// Drafts of programs that do not live any more.
void removeLeftovers(const fs::path& target) {
    const std::string prefix = prefixOf(target);
    std::error_code failed;
    for (fs::directory_iterator at(target.parent_path(), failed), end; !failed && at != end; at.increment(failed)) {
        const std::string name = at->path().filename().string();
        if (name.rfind(prefix, 0) != 0) continue;
        const long process = std::atol(name.c_str() + prefix.size());
        if (process > 0 && (process == getpid() || kill(static_cast<pid_t>(process), 0) == 0 || errno == EPERM))
            continue;
        std::error_code ignored;
        fs::remove_all(at->path(), ignored);
    }
}

}  // namespace

void requireReleaseTarget(const std::string& target, bool replace) {
    const ReleaseDraft probe(target, replace);
    exchange::writeText(probe.path() + "/probe", "x");
}

ReleaseDraft::ReleaseDraft(const std::string& target, bool replace) : replace_(replace) {
    const fs::path place = settled(target);
    target_ = place.string();
    requireFree(place, replace);
    std::error_code failed;
    fs::create_directories(place.parent_path(), failed);
    if (failed) refuse(place, "a folder that can be made and written", failed.message());
    removeLeftovers(place);
    // one process may write several releases of one name, one after the other
    for (int n = 0; n < 100; ++n) {
        draft_ =
            (place.parent_path() / (prefixOf(place) + std::to_string(getpid()) + "-" + std::to_string(n))).string();
        if (fs::create_directory(draft_, failed)) return;
        if (failed) break;
    }
    draft_.clear();
    refuse(place, "a folder that can be made and written", failed ? failed.message() : "too many drafts there");
}

ReleaseDraft::~ReleaseDraft() {
    std::error_code ignored;
    if (!draft_.empty()) fs::remove_all(draft_, ignored);
}

void ReleaseDraft::publish() {
    std::error_code failed;
    for (fs::recursive_directory_iterator at(draft_, failed), end; !failed && at != end; at.increment(failed))
        exchange::flushToDisk(at->path().string());
    if (failed) refuse(target_, "a folder that can be read", failed.message());
    exchange::flushToDisk(draft_);
    requireFree(target_, replace_);  // nothing came there meanwhile
    auto fail = [&](int code) { refuse(target_, "a folder that can be made and written", std::strerror(code)); };
    const bool isThere = fs::exists(target_, failed);
    if (isThere && !fs::is_empty(target_, failed)) {
        // the two folders change places at once; the old one goes with the draft
        if (renameat2(AT_FDCWD, draft_.c_str(), AT_FDCWD, target_.c_str(), RENAME_EXCHANGE) != 0) {
            if (errno != EINVAL && errno != ENOSYS) fail(errno);
            refuse(target_, "a disk that can put one folder in another's place, or a folder that is empty",
                   "neither: remove the unsigned release first");
        }
    } else if (::rename(draft_.c_str(), target_.c_str()) != 0) {  // over an empty folder too
        fail(errno);
    }
    exchange::flushToDisk(fs::path(target_).parent_path().string());
}

}  // namespace escultura::report

// Inputs damaged by lot, and what became of them: long because every kind of input is damaged in its own way.
#include "hostile.hpp"

#include <signal.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QGuiApplication>
#include <chrono>
#include <cstring>
#include <filesystem>
#include <functional>
#include <random>

#include "box_mesh.hpp"
#include "exchange/body_files.hpp"
#include "exchange/field_reader.hpp"
#include "exchange/writers.hpp"
#include "judge/findings.hpp"
#include "made_up_part.hpp"
#include "project/run.hpp"
#include "report/report.hpp"
#include "stages/plausible.hpp"
#include "store/database.hpp"
#include "store/storage.hpp"

namespace escultura::hostile {
namespace {

namespace fs = std::filesystem;
using namespace duty;
using namespace stages;
using namespace project;
using namespace store;
using namespace judge;
using nlohmann::json;
using Random = std::mt19937;

constexpr double mostSeconds = 10, mostMegabytes = 2000;

std::size_t below(Random& random, std::size_t count) {
    return count ? random() % count : 0;
}

std::string readText(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}
void writeText(const std::string& path, const std::string& text) {
    std::ofstream(path, std::ios::binary) << text;
}

// ---- damage ---------------------------------------------------------------------------------------------------------

json nasty(Random& random) {
    static const char* texts[] = {
        "0",          "-1",         "1e9",          "1e-9",      "1e300",       "true",
        "null",       "[]",         "{}",           "\"\"",      "[1, 2, 3]",   "\"1 kg\"",
        "\"-\"",      "\"1e9 m\"",  "\"1/0\"",      "\"NaN\"",   "-0.5",        "1e18",
        "\"0 mm\"",   "[0, 0, 0]",  "[[[]]]",       "\"pivot\"", "\"\\u0000\"", "\"../../../../etc/hostname\"",
        "2147483648", "\"1 mm^9\"", "\"((((1))))\""};
    const std::size_t at = below(random, std::size(texts) + 2);
    if (at == std::size(texts)) return std::string(20000, '(');
    if (at == std::size(texts) + 1) return std::string(100000, 'x');
    return json::parse(texts[at]);
}

/// A value somewhere in a document.
json& somewhere(json& root, Random& random) {
    json* at = &root;
    while (at->is_structured() && !at->empty()) {
        if (below(random, 6) == 0) break;
        auto it = at->begin();
        std::advance(it, static_cast<long>(below(random, at->size())));
        at = &*it;
    }
    return *at;
}

std::string damagedJson(const std::string& text, Random& random) {
    json document = json::parse(text, nullptr, false);
    if (document.is_discarded()) return text;
    const std::size_t steps = 1 + below(random, 3);
    const bool onlyNumbers = below(random, 2);  // such parts come further
    for (std::size_t s = 0; s < steps; ++s) {
        json& v = somewhere(document, random);
        if (onlyNumbers) {
            static const double factors[] = {1000, 0.001, 25.4, 1 / 25.4, -1, 0.1, 10, 1e6, 1.2, 0.8, 0.5, 2};
            if (v.is_number()) v = v.get<double>() * factors[below(random, std::size(factors))];
            continue;
        }
        switch (below(random, 5)) {
            case 0:
                v = nasty(random);
                break;
            case 1:
                if (v.is_structured() && !v.empty()) {
                    auto it = v.begin();
                    std::advance(it, static_cast<long>(below(random, v.size())));
                    v.erase(it);
                } else {
                    v = nullptr;
                }
                break;
            case 2:
                if (v.is_number()) {
                    static const double factors[] = {1000, 0.001, 25.4, 1 / 25.4, -1, 0, 1e6, 1e12, 0.5, 3};
                    v = v.get<double>() * factors[below(random, std::size(factors))];
                } else {
                    v = nasty(random);
                }
                break;
            case 3:
                if (v.is_array() && !v.empty())
                    v.push_back(v[below(random, v.size())]);
                else if (v.is_object())
                    v["unheard of"] = nasty(random);
                else
                    v = nasty(random);
                break;
            default:
                somewhere(document, random) = json(v);
                break;
        }
    }
    return document.dump(1);
}

/// Bytes and numbers in text changed, cut, doubled or torn out.
std::string damagedBytes(std::string bytes, Random& random) {
    const std::size_t steps = 1 + below(random, 4);
    for (std::size_t s = 0; s < steps && !bytes.empty(); ++s) {
        // half of the damage goes where heads are
        const std::size_t span = below(random, 2) ? bytes.size() : std::min<std::size_t>(bytes.size(), 1500);
        const std::size_t at = below(random, span), length = 1 + below(random, below(random, 3) ? 16 : 5000);
        switch (below(random, 8)) {
            case 0:
                bytes[at] = static_cast<char>(bytes[at] ^ (1 << below(random, 8)));
                break;
            case 1:
                for (std::size_t k = at; k < std::min(at + length, bytes.size()); ++k)
                    bytes[k] = static_cast<char>(random());
                break;
            case 2:
                std::fill(bytes.begin() + static_cast<long>(at),
                          bytes.begin() + static_cast<long>(std::min(at + length, bytes.size())),
                          below(random, 2) ? '\xff' : '\0');
                break;
            case 3:
                bytes.erase(at, length);
                break;
            case 4:
                bytes.insert(at, bytes.substr(below(random, bytes.size()), length));
                break;
            case 5:
                bytes.resize(at);
                break;
            default: {
                // a number in the text becomes another one
                std::size_t digit = at;
                while (digit < bytes.size() && !std::isdigit(static_cast<unsigned char>(bytes[digit]))) ++digit;
                std::size_t end = digit;
                while (end < bytes.size() &&
                       (std::isdigit(static_cast<unsigned char>(bytes[end])) || bytes[end] == '.'))
                    ++end;
                static const char* numbers[] = {
                    "0", "-1", "4294967296", "99999999999999999999", "1e308", "1e999", "nan", "inf", "7", "2147483647"};
                bytes.replace(digit, end - digit, numbers[below(random, std::size(numbers))]);
                break;
            }
        }
    }
    return bytes;
}

// ---- whole inputs ---------------------------------------------------------------------------------------------------

std::vector<std::string> filesIn(const std::string& folder) {
    std::vector<std::string> files;
    for (const auto& e : fs::recursive_directory_iterator(folder))
        if (e.is_regular_file()) files.push_back(e.path().lexically_relative(folder).string());
    std::sort(files.begin(), files.end());
    return files;
}

exchange::FieldSource fieldAt(const std::string& path) {
    exchange::FieldSource source;
    source.path = path;
    source.cell = 2.5;
    if (path.find("npy") != std::string::npos) source.spacing = Vec3::Constant(2.5);
    return source;
}

/// The figures of a project that nothing may change: of its check, mass, findings and texts.
std::string saidBy(const Project& p) {
    const Recipe& recipe = p.current().recipe;
    std::string said = p.part.name + " " + p.current().name + " " + std::to_string(p.current().dispositions.size());
    if (const auto s = p.surface(recipe)) said += " mass " + std::to_string(s->mass);
    if (const auto c = p.check(recipe)) {
        double sum = 0;
        for (const CaseResult& x : c->cases)
            for (std::size_t n = 0; n < x.stress.size(); ++n) sum += x.stress[n].norm() + x.displacement[n].norm();
        said += " stress " + std::to_string(c->envelope.maxStress) + " " + std::to_string(sum);
    }
    for (const Finding& f : findingsOf(p, recipe)) said += " " + f.id + " " + std::to_string(f.peak);
    return said;
}

void makeInputs(const std::string& folder) {
    for (const char* sub : {"parts", "fields", "bodies", "projects"}) fs::create_directories(folder + "/" + sub);
    // parts: the plain one, and one with all that a part may have
    made_up::writeLever(folder + "/parts");
    json rich = made_up::leverPart();
    rich["units"] = {{"length", "mm"}, {"force", "N"}, {"stress", "MPa"}};
    rich["design_space"] = {{"low", {0, 0, 0}}, {"high", {80, 30, 15}}};
    rich["keep_outs"] = {{{"name", "slot"}, {"kind", "box"}, {"low", {35, 0, 0}}, {"high", {40, 4, 15}}},
                         {{"name", "tool"}, {"kind", "body"}, {"body", "tool.stl"}, {"offset", 0.5}}};
    rich["symmetry"] = {{{"point", {40, 15, 7.5}}, {"normal", {0, 0, 1}}}};
    rich["frames"] = {{{"name", "turned"}, {"points", {{0, 0, 0}, {0, 1, 0}, {-1, 0, 0}}}}};
    rich["combinations"] = {{{"name", "both"}, {"sum", "1.35 down + 1.5 pull"}}};
    rich["supports"].push_back({{"kind", "elastic_bed"},
                                {"interfaces", {"pivot"}},
                                {"face", "start"},
                                {"normal_stiffness", 100},
                                {"tangential_stiffness", 10}});
    rich["load_cases"].push_back(
        {{"name", "turning"},
         {"loads",
          {{{"kind", "spin"}, {"point", {15, 15, 0}}, {"axis", {0, 0, 1}}, {"speed", "300 rpm"}},
           {{"kind", "remote_force"},
            {"interfaces", {"eye"}},
            {"face", "bore"},
            {"force", {100, 0, 10}},
            {"point", {90, 15, 7}}}}}});
    rich["shared_loads"] = {{{"kind", "gravity"}, {"acceleration", {0, 0, "-9.81 m/s^2"}}}};
    writeText(folder + "/parts/rich.json", rich.dump(1));
    exchange::writeStl(folder + "/parts/tool.stl", made_up::boxMesh({36, 25, -5}, {44, 40, 20}), "tool");

    const field::DensityField f = made_up::leverField();
    made_up::writeNpy(folder + "/fields/lever.npy", f);
    std::string table = "x,y,z,density\n", vti, legacy;
    for (std::size_t c = 0; c < f.count(); c += 3) {
        const Vec3 p = f.centre(c);
        table += std::to_string(p[0]) + "," + std::to_string(p[1]) + "," + std::to_string(p[2]) + "," +
                 std::to_string(f.density[c]) + "\n";
    }
    writeText(folder + "/fields/lever.csv", table);
    std::string values;
    for (float d : f.density) values += std::to_string(d) + " ";
    writeText(folder + "/fields/lever.vti",
              "<VTKFile type=\"ImageData\" version=\"1.0\" byte_order=\"LittleEndian\" "
              "header_type=\"UInt64\"><ImageData WholeExtent=\"0 32 0 12 0 "
              "6\" Origin=\"0 0 0\" Spacing=\"2.5 2.5 2.5\"><Piece Extent=\"0 32 0 12 0 6\"><CellData><DataArray "
              "type=\"Float32\" Name=\"density\" format=\"ascii\">" +
                  values + "</DataArray></CellData></Piece></ImageData></VTKFile>\n");
    writeText(folder + "/fields/lever.vtk",
              "# vtk DataFile Version 3.0\nlever\nASCII\nDATASET STRUCTURED_POINTS\nDIMENSIONS 33 13 7\nORIGIN 0 0 "
              "0\nSPACING 2.5 "
              "2.5 2.5\nCELL_DATA 2304\nSCALARS density float 1\nLOOKUP_TABLE default\n" +
                  values + "\n");

    const auto box = made_up::boxMesh({0, 0, 0}, {20, 10, 5});
    exchange::writeStl(folder + "/bodies/box.stl", box, "box");
    exchange::writeObj(folder + "/bodies/box.obj", box, {"box", {}});
    exchange::writePly(folder + "/bodies/box.ply", box, {"box", {}});

    Progress progress;
    {  // what is damaged must be whole before
        Project whole = openPart(folder + "/parts/rich.json", progress);
        run(whole, whole.variants[0].recipe, Stage::surface, progress);
        for (const auto& e : fs::directory_iterator(folder + "/fields"))
            exchange::readField(fieldAt(e.path().string()));
        for (const auto& e : fs::directory_iterator(folder + "/bodies")) exchange::readBody(e.path().string());
    }
    Project p = openPart(folder + "/parts/lever.json", progress);
    p.variants[0].recipe.elementSize = 5;
    run(p, p.variants[0].recipe, Stage::findings, progress);
    saveProject(p, folder + "/projects/lever.escultura");
    render::Renderer renderer;
    report::writeRelease(p, p.current(), {}, renderer, folder + "/release", progress);
    writeText(folder + "/said.txt", saidBy(p));
}

// ---- tries ----------------------------------------------------------------------------------------------------------

std::string pick(const std::vector<std::string>& files, Random& random) {
    return files.at(below(random, files.size()));
}

/// Damages one value inside a project file's tables.
void damageRow(const std::string& path, Random& random) {
    const char* table = below(random, 2) ? "meta" : "result";
    const std::string column = std::string(table) == "meta" ? "value" : "data";
    Database db(path, SQLITE_OPEN_READWRITE);
    std::vector<std::array<std::string, 3>> values;
    db.forRows(("SELECT key, kind, " + column + " FROM " + table + " ORDER BY key, kind").c_str(),
               [&](const std::string& key, const std::string& kind, const char* data, std::size_t size) {
                   values.push_back({key, kind, std::string(data, size)});
               });
    const auto& [key, kind, value] = values.at(below(random, values.size()));
    const std::string damaged =
        kind == "json" && below(random, 3) ? damagedJson(value, random) : damagedBytes(value, random);
    db.insert(("UPDATE " + std::string(table) + " SET " + column + " = ?3 WHERE key = ?1 AND kind = ?2").c_str(), key,
              kind, {damaged.begin(), damaged.end()});
}

/// Damages and tries; what it throws and returns is told by tryOne(). @return whether a damaged release was believed
bool attempt(Kind kind, std::uint32_t seed, const std::string& folder, const std::string& own) {
    Random random(seed * 2654435761u + static_cast<std::uint32_t>(kind));
    Progress progress;
    switch (kind) {
        case Kind::part: {
            for (const char* f : {"lever.npy", "tool.stl"}) fs::copy_file(folder + "/parts/" + f, own + "/" + f);
            const std::string text = readText(folder + "/parts/" + (below(random, 2) ? "rich.json" : "lever.json"));
            writeText(own + "/part.json", below(random, 4) ? damagedJson(text, random) : damagedBytes(text, random));
            Project p = openPart(own + "/part.json", progress);
            Recipe& recipe = p.variants[0].recipe;
            recipe.elementSize = 5;
            const auto field = p.field(recipe);
            readyNotes(p.part, recipe, field.get(), nullptr);
            if (!field) return false;  // a part without one is whole: it would be made
            requirePlausible(p.part, recipe, *field);
            if (seed % 10 == 0) run(p, recipe, Stage::surface, progress);
            return false;
        }
        case Kind::field: {
            const std::string file = pick(filesIn(folder + "/fields"), random), path = own + "/" + file;
            writeText(path, damagedBytes(readText(folder + "/fields/" + file), random));
            exchange::inspectField(path);
            exchange::readField(fieldAt(path));
            return false;
        }
        case Kind::body: {
            const std::string file = pick(filesIn(folder + "/bodies"), random), path = own + "/" + file;
            writeText(path, damagedBytes(readText(folder + "/bodies/" + file), random));
            exchange::readBody(path);
            return false;
        }
        case Kind::project: {
            const std::string path = own + "/lever.escultura", whole = folder + "/projects/lever.escultura";
            if (below(random, 4) == 0) {
                writeText(path, damagedBytes(readText(whole), random));
            } else {
                fs::copy_file(whole, path);
                damageRow(path, random);
            }
            const Project p = loadProject(path);
            for (const Variant& v : p.variants) findingsOf(p, v.recipe);
            // out of date is well; another figure is not
            return p.check(p.current().recipe) && saidBy(p) != readText(folder + "/said.txt");
        }
        case Kind::release: {
            const std::string copy = own + "/release";
            fs::copy(folder + "/release", copy, fs::copy_options::recursive);
            const std::string file = pick(filesIn(copy), random);
            const std::string before = readText(copy + "/" + file);
            std::string after = before;
            while (after == before) after = damagedBytes(before, random);
            writeText(copy + "/" + file, after);
            for (const auto& i : report::verifyRelease(copy, false, progress))
                if (!i.holds) return false;
            return true;
        }
    }
    return false;
}

void say(int pipe, char end, const std::string& message) {
    const std::string text = std::string(1, end) + message.substr(0, 2000);
    for (std::size_t at = 0; at < text.size();) {
        const ssize_t n = write(pipe, text.data() + at, text.size() - at);
        if (n <= 0) return;
        at += static_cast<std::size_t>(n);
    }
}

}  // namespace

const char* name(Kind kind) {
    static const char* names[] = {"part", "field", "body", "project", "release"};
    return names[static_cast<int>(kind)];
}

const char* name(Outcome::End end) {
    static const char* names[] = {"accepted", "refused",  "incomplete message", "other exception",
                                  "signal",   "too slow", "too large",          "damaged release believed"};
    return names[static_cast<int>(end)];
}

void prepare(const std::string& folder) {
    if (fs::exists(folder + "/whole")) return;
    fs::create_directories(folder);
    const pid_t child = fork();
    if (child == 0) {
        int argc = 1;
        char program[] = "hostile";
        char* argv[] = {program, nullptr};
        qputenv("QT_QPA_PLATFORM", "offscreen");
        const QGuiApplication application(argc, argv);
        int code = 0;
        try {
            makeInputs(folder);
        } catch (const std::exception& e) {
            std::fprintf(stderr, "%s\n", e.what());
            code = 1;
        }
        std::fflush(stderr);
        _exit(code);
    }
    int status = 0;
    waitpid(child, &status, 0);
    if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) throw std::runtime_error("the whole inputs cannot be made");
    writeText(folder + "/whole", "");
}

Outcome tryOne(Kind kind, std::uint32_t seed, const std::string& folder) {
    const std::string own = folder + "/try-" + name(kind) + "-" + std::to_string(seed);
    fs::remove_all(own);
    fs::create_directories(own);
    int pipes[2];
    if (pipe(pipes) != 0) throw std::runtime_error("no pipe");
    const auto start = std::chrono::steady_clock::now();
    std::fflush(nullptr);  // else the child writes what the parent has not yet
    const pid_t child = fork();
    if (child == 0) {
        close(pipes[0]);
        // libraries that print
        if (!std::freopen("/dev/null", "w", stdout) || !std::freopen("/dev/null", "w", stderr)) _exit(2);
#ifndef __SANITIZE_ADDRESS__                                              // takes terabytes of addresses by itself
        const rlimit memory{std::size_t(8) << 30, std::size_t(8) << 30};  // addresses: what is held is measured
        setrlimit(RLIMIT_AS, &memory);
#endif
        alarm(static_cast<unsigned>(mostSeconds) + 2);
        try {
            if (attempt(kind, seed, folder, own))
                say(pipes[1], 'b', "");
            else
                say(pipes[1], 'a', "");
        } catch (const InputError& e) {
            const auto& d = e.detail();
            say(pipes[1], d.file.empty() || d.expected.empty() || d.found.empty() ? 'i' : 'r', e.what());
        } catch (const std::exception& e) {
            say(pipes[1], 'o', e.what());
        }
        _exit(0);
    }
    close(pipes[1]);
    std::string told;
    char buffer[4096];
    for (ssize_t n; (n = read(pipes[0], buffer, sizeof buffer)) > 0;) told.append(buffer, static_cast<std::size_t>(n));
    close(pipes[0]);
    int status = 0;
    rusage usage{};
    wait4(child, &status, 0, &usage);
    Outcome o;
    o.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    o.megabytes = static_cast<double>(usage.ru_maxrss) / 1024;
    o.message = told.empty() ? "" : told.substr(1);
    const char end = told.empty() ? 's' : told[0];
    using End = Outcome::End;
    o.end = o.seconds > mostSeconds       ? End::slow
            : o.megabytes > mostMegabytes ? End::large
            : end == 'a'                  ? End::accepted
            : end == 'r'                  ? End::refused
            : end == 'i'                  ? End::incomplete
            : end == 'o'                  ? End::other
            : end == 'b'                  ? End::believed
                                          : End::signal;
    if (o.end == End::signal) o.message = WIFSIGNALED(status) ? strsignal(WTERMSIG(status)) : "ended without a word";
    if (o.isGood()) fs::remove_all(own);
    return o;
}

Outcome killOne(std::uint32_t seed, const std::string& folder) {
    const std::string own = folder + "/kill";
    const std::string release = own + "/release", project = own + "/lever.escultura";
    if (!fs::exists(own)) {
        fs::create_directories(own);
        fs::copy(folder + "/release", release, fs::copy_options::recursive);
        fs::copy_file(folder + "/projects/lever.escultura", project);
    }
    std::fflush(nullptr);
    const pid_t writer = fork();
    if (writer == 0) {
        try {
            const Project p = loadProject(folder + "/projects/lever.escultura");
            while (true) {
                report::ReleaseDraft draft(release, true);
                for (const std::string& f : filesIn(folder + "/release")) {
                    fs::create_directories(fs::path(draft.path() + "/" + f).parent_path());
                    exchange::writeText(draft.path() + "/" + f, readText(folder + "/release/" + f));
                }
                draft.publish();
                saveProject(p, project);
            }
        } catch (const std::exception&) {
        }
        _exit(1);
    }
    Random random(seed);
    usleep(static_cast<useconds_t>(60000 + below(random, 400000)));
    kill(writer, SIGKILL);
    int status = 0;
    waitpid(writer, &status, 0);
    Outcome o;
    o.end = WIFSIGNALED(status) ? Outcome::End::accepted : Outcome::End::other;  // it must not have ended by itself
    const pid_t reader = fork();
    if (reader == 0) {
        try {
            Progress progress;
            bool whole = saidBy(loadProject(project)) == readText(folder + "/said.txt");
            for (const auto& i : report::verifyRelease(release, false, progress)) whole = whole && i.holds;
            _exit(whole ? 0 : 1);
        } catch (const std::exception&) {
            _exit(1);
        }
    }
    waitpid(reader, &status, 0);
    if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) o.end = Outcome::End::believed;
    return o;
}

}  // namespace escultura::hostile

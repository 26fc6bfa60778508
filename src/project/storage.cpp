/// Project files: one SQLite database. Tables: meta(key, value), variant(position, data), result(key, kind, data).

#include <sqlite3.h>

#include <cstring>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <type_traits>

#include "base/error.hpp"
#include "exchange/writers.hpp"
#include "project/project.hpp"
#include "project/rebuild_text.hpp"

namespace escultura::project {
namespace {

constexpr int formatVersion = 3;

/// Writes or reads plain values, vectors and strings in order, little-endian.
class Archive {
  public:
    Archive() = default;
    Archive(const char* data, std::size_t size) : bytes_(data, data + size), reading_(true) {}
    const std::vector<char>& bytes() const { return bytes_; }

    template <class T>
    void operator()(T& value) {
        if constexpr (std::is_same_v<T, std::string>) {
            sequence(value);
        } else if constexpr (isVector<T>::value) {
            using Item = typename T::value_type;
            if constexpr (isPlain<Item>) {
                sequence(value);
            } else {
                std::uint64_t n = value.size();
                raw(&n, sizeof n);
                if (reading_) {
                    if (n > bytes_.size()) damaged();
                    value.resize(n);
                }
                for (auto& item : value) (*this)(item);
            }
        } else if constexpr (isPlain<T>) {
            raw(&value, sizeof value);
        } else {
            describe(*this, value);
        }
    }
    template <class... T>
    void all(T&... values) {
        ((*this)(values), ...);
    }

  private:
    template <class T>
    struct isVector : std::false_type {};
    template <class T>
    struct isVector<std::vector<T>> : std::true_type {};
    template <class T>
    struct isFixedMatrix : std::false_type {};
    template <class S, int R, int C>
    struct isFixedMatrix<Eigen::Matrix<S, R, C>> : std::true_type {};
    template <class T>
    static constexpr bool isPlain =
        std::is_arithmetic_v<T> || std::is_enum_v<T> || isFixedMatrix<T>::value || std::is_same_v<T, Triangle> ||
        std::is_same_v<T, mesh::Tet10> || std::is_same_v<T, mesh::Triangle6> || std::is_same_v<T, std::array<int, 3>> ||
        std::is_same_v<T, lattice::CreaseReport>;

    [[noreturn]] static void damaged() {
        throw InputError(
            ErrorDetail{"The project file is damaged.", {}, "a stored result", "complete data", "the data end early"});
    }
    void raw(void* data, std::size_t size) {
        if (reading_) {
            if (size > bytes_.size() - at_) damaged();
            std::memcpy(data, bytes_.data() + at_, size);
            at_ += size;
        } else {
            const auto* p = static_cast<const char*>(data);
            bytes_.insert(bytes_.end(), p, p + size);
        }
    }
    template <class S>
    void sequence(S& s) {
        std::uint64_t n = s.size();
        raw(&n, sizeof n);
        if (reading_) {
            if (n > (bytes_.size() - at_) / sizeof(typename S::value_type)) damaged();
            s.resize(n);
        }
        if (n) raw(s.data(), n * sizeof(typename S::value_type));
    }
    std::vector<char> bytes_;
    std::size_t at_ = 0;
    bool reading_ = false;
};

void describe(Archive& a, NamedFace& f) {
    a.all(f.interface, f.face, f.surface, f.origin, f.axis, f.low, f.high, f.radius);
}
void describe(Archive& a, BoreFigure& b) {
    a.all(b.interface, b.nominal, b.measured, b.error);
}
void describe(Archive& a, surface::TriMesh& m) {
    a.all(m.position, m.triangle, m.owner);
}
void describe(Archive& a, surface::Measures& m) {
    a.all(m.volume, m.area, m.centroid, m.inertia, m.pieces, m.genus, m.watertight);
}
void describe(Archive& a, GeometryFinding& f) {
    a.all(f.kind, f.text, f.position, f.before, f.after);
}
void describe(Archive& a, surface::Thickness& t) {
    a.all(t.value, t.least, t.leastAt, t.low5, t.median);
}
void describe(Archive& a, SurfaceResult& r) {
    a.all(r.mesh, r.measures, r.deviation, r.deviationMean, r.deviationRms, r.deviation95, r.deviationMax,
          r.deviationMaxAt, r.thickness, r.mass, r.askedVolume, r.draftVolume, r.solvedThreshold, r.rawPieces,
          r.rawGenus, r.bores, r.faces, r.findings);
}
void describe(Archive& a, mesh::TetMesh& m) {
    a.all(m.position, m.cornerCount, m.tet, m.boundary, m.owner, m.creases, m.relaxedEdges);
}
void describe(Archive& a, mesh::PoorElement& e) {
    a.all(e.element, e.dihedral, e.aspect, e.jacobian, e.middle);
}
void describe(Archive& a, mesh::Quality& q) {
    a.all(q.minDihedral, q.maxDihedral, q.minScaledJacobian, q.maxAspectRatio, q.volume, q.dihedralHistogram,
          q.aspectHistogram, q.jacobianHistogram, q.warned, q.failed, q.worst);
}
void describe(Archive& a, InterfaceReaction& r) {
    a.all(r.interface, r.force, r.moment);
}
void describe(Archive& a, ConvergencePass& p) {
    a.all(p.elements, p.unknowns, p.minSafetyFactor, p.maxDisplacement, p.energyError, p.change);
}
void describe(Archive& a, CaseResult& c) {
    a.all(c.name, c.combination, c.appliedMoment, c.reactionMoment, c.meantMoment, c.maxStress, c.iterations,
          c.appliedAsMeant, c.displacement, c.stress, c.vonMises, c.applied, c.reaction, c.meant, c.reactions,
          c.equilibriumError, c.residual, c.strainEnergy, c.energyError, c.maxDisplacement, c.maxVonMises,
          c.maxRawVonMises, c.minSafetyFactor, c.maxNode, c.maxDisplacementNode);
}
void describe(Archive& a, assess::Envelope& e) {
    a.all(e.stress, e.governingCase, e.maxStress, e.maxNode, e.maxCase);
}
void describe(Archive& a, CheckResult& r) {
    a.all(r.mesh, r.quality, r.faces, r.unknowns, r.solver, r.solverMemory, r.setupSeconds, r.solveSeconds, r.cases,
          r.envelope, r.minSafetyFactor, r.governingCase, r.level, r.elementError, r.passes, r.converged, r.residual);
}
void describe(Archive& a, Finding& f) {
    a.all(f.id, f.place, f.position, f.node, f.peak, f.safetyFactor, f.persistence, f.area, f.caseName,
          f.nearestInterface, f.distance);
}
void describe(Archive& a, FindingsResult& r) {
    a.all(r.findings, r.sensitivity);
}
void describe(Archive& a, field::DensityField& f) {
    a.all(f.cells, f.origin, f.spacing, f.density, f.source);
}

nlohmann::json toJson(const Vec3& v) {
    return nlohmann::json::array({v[0], v[1], v[2]});
}
Vec3 vectorFrom(const nlohmann::json& j) {
    return Vec3(j.at(0).get<double>(), j.at(1).get<double>(), j.at(2).get<double>());
}

nlohmann::json toJson(const CheckChoice& c) {
    nlohmann::json sizes = nlohmann::json::array();
    for (const LocalSize& s : c.localSizes)
        sizes.push_back({{"kind", static_cast<int>(s.kind)},
                         {"low", toJson(s.low)},
                         {"high", toJson(s.high)},
                         {"centre", toJson(s.centre)},
                         {"radius", s.radius},
                         {"interface", s.interface},
                         {"name", s.name},
                         {"size", s.size}});
    return {{"original", c.original},
            {"rebuilt", c.rebuilt},
            {"level", static_cast<int>(c.level)},
            {"convergence", c.convergence},
            {"passes", c.passes},
            {"elements_through", c.elementsThrough},
            {"method", static_cast<int>(c.method)},
            {"tolerance", c.tolerance},
            {"local_sizes", sizes}};
}

nlohmann::json toJson(const Recipe& r) {
    return {{"threshold", r.threshold},
            {"smoothing", r.smoothing},
            {"surface_spacing", r.surfaceSpacing},
            {"element_size", r.elementSize},
            {"hotspot_share", r.hotspotShare},
            {"field", {{"how", static_cast<int>(r.field.how)}, {"which", r.field.which}, {"weights", r.field.weights}}},
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
            {"rebuild", rebuildJson(r.rebuild)},
            {"check", toJson(r.check)}};
}

CheckChoice checkFrom(const nlohmann::json& j) {
    CheckChoice c;
    c.original = j.value("original", false);
    c.rebuilt = j.value("rebuilt", false);
    c.level = static_cast<Level>(std::clamp(j.at("level").get<int>(), 0, 2));
    c.convergence = j.at("convergence");
    c.passes = j.at("passes");
    c.elementsThrough = j.at("elements_through");
    c.method = static_cast<elastic::Method>(std::clamp(j.at("method").get<int>(), 0, 2));
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

Recipe recipeFrom(const nlohmann::json& j) {
    Recipe r;
    r.threshold = j.at("threshold");
    r.smoothing = j.at("smoothing");
    r.surfaceSpacing = j.at("surface_spacing");
    r.elementSize = j.at("element_size");
    r.hotspotShare = j.at("hotspot_share");
    const auto& f = j.at("field");
    r.field.how = static_cast<FieldChoice::How>(std::clamp(f.at("how").get<int>(), 0, 3));
    r.field.which = f.at("which");
    r.field.weights = f.at("weights").get<std::vector<double>>();
    r.largestPieceOnly = j.at("largest_piece_only");
    r.smallestIsland = j.at("smallest_island");
    r.triangles = static_cast<Triangles>(std::clamp(j.at("triangles").get<int>(), 0, 2));
    r.triangleBudget = j.at("triangle_budget");
    const auto& d = j.at("draft");
    r.draft = {d.at("add"), vectorFrom(d.at("pull")), d.at("parting"), d.at("angle")};
    if (j.contains("rebuild")) r.rebuild = rebuildFrom(j.at("rebuild"));
    if (j.contains("check")) r.check = checkFrom(j.at("check"));
    r.printing = {vectorFrom(j.at("printing").at("up")), j.at("printing").at("overhang")};
    return r;
}

nlohmann::json toJson(const Variant& v) {
    nlohmann::json j = {{"id", v.id},
                        {"name", v.name},
                        {"recipe", toJson(v.recipe)},
                        {"reasons", nlohmann::json::object()},
                        {"dispositions", nlohmann::json::array()}};
    for (const auto& [stage, reason] : v.reasons) j["reasons"][std::to_string(stage)] = reason;
    for (const Disposition& d : v.dispositions)
        j["dispositions"].push_back({{"key", d.findingsKey},
                                     {"finding", d.finding},
                                     {"decision", d.decision},
                                     {"reason", d.reason},
                                     {"by", d.by},
                                     {"date", d.date}});
    return j;
}

Variant fromJson(const nlohmann::json& j) {
    Variant v;
    v.id = j.at("id");
    v.name = j.at("name");
    v.recipe = recipeFrom(j.at("recipe"));
    for (const auto& [stage, reason] : j.at("reasons").items()) v.reasons[std::stoi(stage)] = reason;
    for (const auto& d : j.at("dispositions"))
        v.dispositions.push_back(
            {d.at("key"), d.at("finding"), d.at("decision"), d.at("reason"), d.at("by"), d.at("date")});
    return v;
}

/// A database connection that closes itself and turns failures into errors.
class Database {
  public:
    Database(const std::string& path, int flags) : path_(path) {
        if (sqlite3_open_v2(path.c_str(), &db_, flags, nullptr) != SQLITE_OK) fail();
    }
    ~Database() { sqlite3_close(db_); }
    Database(const Database&) = delete;
    Database& operator=(const Database&) = delete;

    [[noreturn]] void fail() const {
        throw InputError(ErrorDetail{"The project file cannot be used.",
                                     path_,
                                     {},
                                     "an Escultura project (SQLite)",
                                     db_ ? sqlite3_errmsg(db_) : "out of memory"});
    }
    void execute(const char* sql) {
        if (sqlite3_exec(db_, sql, nullptr, nullptr, nullptr) != SQLITE_OK) fail();
    }
    void insert(const char* sql, const std::string& key, const std::string& kind, const std::vector<char>& data) {
        sqlite3_stmt* s = nullptr;
        if (sqlite3_prepare_v2(db_, sql, -1, &s, nullptr) != SQLITE_OK) fail();
        sqlite3_bind_text(s, 1, key.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_text(s, 2, kind.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_blob64(s, 3, data.data(), data.size(), SQLITE_STATIC);
        const int code = sqlite3_step(s);
        sqlite3_finalize(s);
        if (code != SQLITE_DONE) fail();
    }
    /// Calls visit(text, text, blob, size) for each row.
    template <class Visit>
    void forRows(const char* sql, const Visit& visit) {
        sqlite3_stmt* s = nullptr;
        if (sqlite3_prepare_v2(db_, sql, -1, &s, nullptr) != SQLITE_OK) fail();
        int code = 0;
        try {
            while ((code = sqlite3_step(s)) == SQLITE_ROW) {
                auto text = [&](int column) {
                    const auto* t = sqlite3_column_text(s, column);
                    return std::string(t ? reinterpret_cast<const char*>(t) : "");
                };
                visit(text(0), text(1), static_cast<const char*>(sqlite3_column_blob(s, 2)),
                      static_cast<std::size_t>(sqlite3_column_bytes(s, 2)));
            }
        } catch (...) {
            sqlite3_finalize(s);
            throw;
        }
        sqlite3_finalize(s);
        if (code != SQLITE_DONE) fail();
    }

  private:
    std::string path_;
    sqlite3* db_ = nullptr;
};

template <class T>
void saveAll(Database& db, const Results& results, const char* kind) {
    for (const auto& [key, value] : results.all<T>()) {
        Archive a;
        T copy = *value;
        a(copy);
        db.insert("INSERT INTO result VALUES(?1, ?2, ?3)", key, kind, a.bytes());
    }
}

template <class T>
T restore(const char* data, std::size_t size) {
    Archive a(data, size);
    T value;
    a(value);
    return value;
}

}  // namespace

void saveProject(const Project& project, const std::string& path) {
    exchange::replaceFile(path, [&](const std::string& temporary) {
        std::error_code ignored;
        std::filesystem::remove(temporary, ignored);
        Database db(temporary, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
        db.execute(
            "PRAGMA journal_mode=OFF; PRAGMA synchronous=FULL; PRAGMA application_id=1163084627; PRAGMA "
            "user_version=3; BEGIN;"
            "CREATE TABLE meta(key TEXT PRIMARY KEY, kind TEXT, value BLOB);"
            "CREATE TABLE result(key TEXT PRIMARY KEY, kind TEXT, data BLOB);");
        nlohmann::json head = {{"version", formatVersion},
                               {"part_path", project.part.path},
                               {"open", project.open},
                               {"baseline", project.baseline},
                               {"variants", nlohmann::json::array()}};
        for (const Variant& v : project.variants) head["variants"].push_back(toJson(v));
        head["views"] = nlohmann::json::array();
        for (const NamedView& v : project.views)
            head["views"].push_back({{"name", v.name},
                                     {"focus", toJson(v.focus)},
                                     {"direction", toJson(v.direction)},
                                     {"up", toJson(v.up)},
                                     {"height", v.height}});
        const std::string text = head.dump();
        db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "project", "json", {text.begin(), text.end()});
        db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "part", "json",
                  {project.part.text.begin(), project.part.text.end()});
        for (std::size_t n = 0; n < project.part.fields.size(); ++n) {
            const auto source = project.source(n);
            if (!source) continue;
            Archive a;
            field::DensityField f = source->field;
            a(f);
            db.insert("INSERT INTO meta VALUES(?1, ?2, ?3)", "field " + std::to_string(n), "density field", a.bytes());
        }
        saveAll<SurfaceResult>(db, *project.results, "surface");
        saveAll<CheckResult>(db, *project.results, "check");
        saveAll<FindingsResult>(db, *project.results, "findings");
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
    std::string head, part;
    std::map<std::size_t, field::DensityField> fields;
    try {
        db.forRows("SELECT key, kind, value FROM meta",
                   [&](const std::string& key, const std::string&, const char* data, std::size_t size) {
                       if (key == "project") head.assign(data, size);
                       if (key == "part") part.assign(data, size);
                       if (key.rfind("field ", 0) == 0)
                           fields[std::stoul(key.substr(6))] = restore<field::DensityField>(data, size);
                   });
        const auto j = nlohmann::json::parse(head);
        if (j.at("version") != formatVersion)
            throw InputError(ErrorDetail{"The project was written by another version.", path, "version",
                                         std::to_string(formatVersion), j.at("version").dump()});
        Project p;
        p.part = parsePart(part, j.at("part_path"));
        for (const auto& v : j.at("variants")) p.variants.push_back(fromJson(v));
        if (j.contains("views"))
            for (const auto& v : j.at("views"))
                p.views.push_back({v.at("name"), vectorFrom(v.at("focus")), vectorFrom(v.at("direction")),
                                   vectorFrom(v.at("up")), v.at("height")});
        p.open = j.at("open");
        p.baseline = j.at("baseline");
        if (p.variants.empty() || p.open >= p.variants.size() || p.baseline >= p.variants.size())
            throw InputError(ErrorDetail{"The project file is damaged.", path, "variants",
                                         "at least one variant, and the open one among them", "something else"});
        for (auto& [n, field] : fields) {
            if (n >= p.part.fields.size()) continue;
            field::validate(field);
            adoptField(p, n, std::move(field));
        }
        if (fields.empty())
            throw InputError(
                ErrorDetail{"The project file is damaged.", path, "fields", "at least one density field", "none"});
        Progress progress;
        for (const Variant& v : p.variants) run(p, v.recipe, Stage::field, progress);
        db.forRows("SELECT key, kind, data FROM result",
                   [&](const std::string& key, const std::string& kind, const char* data, std::size_t size) {
                       if (kind == "surface") p.results->store(key, restore<SurfaceResult>(data, size));
                       if (kind == "check") p.results->store(key, restore<CheckResult>(data, size));
                       if (kind == "findings") p.results->store(key, restore<FindingsResult>(data, size));
                   });
        return p;
    } catch (const nlohmann::json::exception& e) {
        throw InputError(
            ErrorDetail{"The project file is damaged.", path, "project", "a complete description", e.what()});
    }
}

}  // namespace escultura::project

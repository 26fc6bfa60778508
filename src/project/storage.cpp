/// Project files: one SQLite database. Tables: meta(key, kind, value), result(key, kind, data),
/// history(position, kind, data).

#include <cstring>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <type_traits>

#include "base/error.hpp"
#include "exchange/writers.hpp"
#include "project/database.hpp"
#include "project/project.hpp"
#include "project/state_text.hpp"

namespace escultura::project {
namespace {

constexpr int formatVersion = 4;

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
        std::is_same_v<T, lattice::CreaseReport> || std::is_same_v<T, LocalPrint>;

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
void describe(Archive& a, assess::Evidence& e) {
    a.all(e.size, e.peak, e.alongEdge, e.elements, e.exponent, e.change, e.angle, e.radius, e.sharp, e.toSupport,
          e.toLoad, e.zone, e.verdict, e.reason);
}
void describe(Archive& a, HotspotTests& t) {
    std::vector<std::int32_t> nodes;
    std::vector<assess::Evidence> evidence;
    for (auto& [node, e] : t.byNode) nodes.push_back(node), evidence.push_back(e);
    a.all(nodes, evidence);
    t.byNode.clear();
    for (std::size_t i = 0; i < std::min(nodes.size(), evidence.size()); ++i) t.byNode[nodes[i]] = evidence[i];
}
void describe(Archive& a, Finding& f) {
    a.all(f.kind, f.id, f.place, f.text, f.position, f.node, f.peak, f.safetyFactor, f.persistence, f.area, f.caseName,
          f.nearestInterface, f.distance, f.toSupport, f.toLoad, f.print, f.reach);
}
void describe(Archive& a, FindingsResult& r) {
    a.all(r.findings, r.sensitivity, r.heights);
}
void describe(Archive& a, field::DensityField& f) {
    a.all(f.cells, f.origin, f.spacing, f.density, f.source);
}

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
            "user_version=4; BEGIN;"
            "CREATE TABLE meta(key TEXT PRIMARY KEY, kind TEXT, value BLOB);"
            "CREATE TABLE result(key TEXT PRIMARY KEY, kind TEXT, data BLOB);"
            "CREATE TABLE history(position INTEGER PRIMARY KEY, kind TEXT, data BLOB);");
        nlohmann::json head = projectJson(project);
        head["version"] = formatVersion;
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
        saveAll<HotspotTests>(db, *project.results, "tests");
        for (std::size_t n = 0; n < project.history.size(); ++n) {
            const std::string entry = historyJson(project.history[n]).dump();
            db.insert("INSERT INTO history VALUES(?1, ?2, ?3)", std::to_string(n), "json",
                      {entry.begin(), entry.end()});
        }
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
        applyProjectJson(p, j);
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
                       if (kind == "tests") p.results->store(key, restore<HotspotTests>(data, size));
                   });
        db.forRows("SELECT position, kind, data FROM history ORDER BY position",
                   [&](const std::string&, const std::string&, const char* data, std::size_t size) {
                       p.history.push_back(historyFrom(nlohmann::json::parse(data, data + size)));
                   });
        return p;
    } catch (const nlohmann::json::exception& e) {
        throw InputError(
            ErrorDetail{"The project file is damaged.", path, "project", "a complete description", e.what()});
    }
}

}  // namespace escultura::project

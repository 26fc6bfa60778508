/// Results as bytes, and on disk. Long because every type that is stored is told here once, field by field.

#include "store/stored_results.hpp"

#include <stdlib.h>

#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <type_traits>

#include "base/digest.hpp"
#include "base/error.hpp"
#include "base/machine.hpp"
#include "duty/rebuild_text.hpp"
#include "store/file_lock.hpp"
#include "store/shelter.hpp"

namespace escultura::store {
namespace {

namespace fs = std::filesystem;

/// Writes or reads plain values, vectors and strings in order, little-endian.
class Archive {
  public:
    Archive() = default;
    /// Reads data that outlive the archive.
    Archive(const char* data, std::size_t size) : data_(data), size_(size), reading_(true) {}
    /// One that only counts the bytes that it would write.
    static Archive counter() {
        Archive a;
        a.counting_ = true;
        return a;
    }
    bool isCounting() const { return counting_; }
    std::size_t counted() const { return at_; }
    std::vector<char> taken() { return std::move(bytes_); }
    bool isReading() const { return reading_; }

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
                    if (n > size_) damaged();
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
        std::is_same_v<T, mesh::Tet10> || std::is_same_v<T, mesh::Triangle6> || std::is_same_v<T, cage::Quad> ||
        std::is_same_v<T, cage::Crease> || std::is_same_v<T, std::array<int, 3>> ||
        std::is_same_v<T, lattice::CreaseReport> || std::is_same_v<T, LocalPrint>;

    [[noreturn]] static void damaged() {
        throw InputError(
            ErrorDetail{"The project file is damaged.", {}, "a stored result", "complete data", "the data end early"});
    }
    void raw(void* data, std::size_t size) {
        if (reading_) {
            if (size > size_ - at_) damaged();
            std::memcpy(data, data_ + at_, size);
            at_ += size;
        } else if (counting_) {
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
            if (n > (size_ - at_) / sizeof(typename S::value_type)) damaged();
            s.resize(n);
        }
        if (n) raw(s.data(), n * sizeof(typename S::value_type));
    }
    std::vector<char> bytes_;     // written
    const char* data_ = nullptr;  // read
    std::size_t size_ = 0, at_ = 0;
    bool reading_ = false, counting_ = false;
};

/// The functions describe() name what a type holds, for writing and reading alike; writing changes nothing.
template <class T>
std::vector<char> written(const T& value) {
    Archive a;
    a(const_cast<T&>(value));
    return a.taken();
}

void describe(Archive& a, NamedFace& f) {
    a.all(f.interface, f.face, f.surface, f.origin, f.axis, f.low, f.high, f.radius, f.outline, f.group);
}
void describe(Archive& a, BoreFigure& b) {
    a.all(b.interface, b.nominal, b.measured, b.error);
}
void describe(Archive& a, surface::TriMesh& m) {
    a.all(m.position, m.triangle, m.owner);
}
void describe(Archive& a, surface::Measures& m) {
    a.all(m.volume, m.area, m.centroid, m.inertia, m.pieces, m.cavities, m.genus, m.watertight);
}
void describe(Archive& a, GeometryFinding& f) {
    a.all(f.kind, f.text, f.position, f.before, f.after);
}
void describe(Archive& a, ThinMember& m) {
    a.all(m.at, m.thickness, m.least, m.length, m.fate, m.after);
}
void describe(Archive& a, surface::Thickness& t) {
    a.all(t.value, t.least, t.leastAt, t.low5, t.median);
}
void describe(Archive& a, SurfaceResult& r) {
    a.all(r.mesh, r.measures, r.deviation, r.deviationMean, r.deviationRms, r.deviation95, r.deviationMax,
          r.deviationMaxAt, r.thickness, r.mass, r.askedVolume, r.draftVolume, r.solvedThreshold, r.rawPieces,
          r.rawGenus, r.finerSpacing, r.members, r.smallestMember, r.bores, r.faces, r.findings);
}
void describe(Archive& a, cage::Cage& c) {
    a.all(c.position, c.face, c.crease);
}
void describe(Archive& a, cage::CageProblem& p) {
    a.all(p.text, p.at);
}
void describe(Archive& a, cage::CageReport& r) {
    a.all(r.closed, r.manifold, r.pieces, r.genus, r.euler, r.problems);
    for (int& n : r.valences) a(n);
}
void describe(Archive& a, cage::CageDeviation& d) {
    a.all(d.rms, d.largest, d.mean, d.largestAt, d.backRms, d.backLargest, d.backLargestAt, d.zoneRms, d.zoneLargest,
          d.edge, d.surface, d.atVertex, d.faceOf, d.ofFace, d.back, d.backFace);
}
/// Without the target: it is made again when the cage is edited.
void describe(Archive& a, CageResult& r) {
    a.all(r.cage, r.report, r.deviation, r.folded, r.targetPieces, r.targetGenus, r.agrees, r.byHand, r.faceSize,
          r.tolerance, r.within, r.irregular, r.tries, r.notes, r.findings, r.seconds);
}
void describe(Archive& a, solid::SolidFigures& f) {
    a.all(f.volume, f.area, f.centroid, f.solids, f.faces, f.edges, f.valid, f.closed);
}
void describe(Archive& a, solid::FeatureOutcome& o) {
    a.all(o.name, o.built, o.problem, o.at, o.volume, o.identity);
}
void describe(Archive& a, solid::SolidSurface& s) {
    a.all(s.kind, s.feature, s.interface, s.face, s.point, s.axis, s.radius, s.hollow, s.faces);
}
void describe(Archive& a, std::shared_ptr<const solid::Brep>& brep) {
    std::vector<char> bytes;
    if (a.isCounting()) return;  // packing takes seconds; its triangles say enough
    if (!a.isReading()) bytes = solid::packed(*brep);
    a(bytes);
    if (a.isReading()) brep = solid::unpacked(bytes);
}
void describe(Archive& a, solid::SolidResult& r) {
    a.all(r.brep, r.free, r.solid, r.features, r.surfaces, r.mesh, r.deflection, r.sewn);
}
void describe(Archive& a, solid::Feature& f) {
    std::string text;
    if (!a.isReading()) text = featureJson(f).dump();
    a(text);
    if (a.isReading()) f = featureFrom(nlohmann::json::parse(text));
}
void describe(Archive& a, cage::LimitMeasures& m) {
    a.all(m.volume, m.area, m.centroid);
}
void describe(Archive& a, RebuildResult& r) {
    a.all(r.solid, r.features, r.limit, r.regularJump, r.irregularJump, r.jump95, r.jumpAt, r.mass, r.genus, r.pieces,
          r.surfaceGenus, r.faces, r.problems, r.seconds);
}
void describe(Archive& a, mesh::TetMesh& m) {
    a.all(m.position, m.cornerCount, m.tet, m.boundary, m.owner, m.creases, m.relaxedEdges, m.straightEdges);
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
          c.maxRawVonMises, c.minSafetyFactor, c.maxNode, c.maxDisplacementNode, c.counts, c.maxCounts,
          c.maxRecoveredStress, c.maxRawStress, c.intoSupports);
}
void describe(Archive& a, assess::Envelope& e) {
    a.all(e.stress, e.governingCase, e.maxStress, e.maxNode, e.maxCase);
}
void describe(Archive& a, CheckResult& r) {
    a.all(r.mesh, r.quality, r.faces, r.unknowns, r.solver, r.solverMemory, r.setupSeconds, r.solveSeconds, r.cases,
          r.envelope, r.counts, r.recovered, r.maxCounts, r.maxRecoveredStress, r.maxRawStress, r.factorBand.low,
          r.factorBand.high, r.bodyVolume, r.droppedPieces, r.droppedVolume, r.minSafetyFactor, r.governingCase,
          r.level, r.elementError, r.passes, r.converged, r.residual);
}
void describe(Archive& a, assess::Evidence& e) {
    a.all(e.size, e.peak, e.alongEdge, e.elements, e.casePeak, e.exponent, e.change, e.angle, e.radius, e.sharp, e.at,
          e.reach, e.toSupport, e.toLoad, e.zone, e.cutError, e.verdict, e.reason);
}
void describe(Archive& a, FurtherTest& f) {
    a.all(f.node, f.group, f.evidence);
}
void describe(Archive& a, HotspotTests& t) {
    std::vector<std::int32_t> nodes;
    std::vector<assess::Evidence> evidence;
    std::vector<std::int32_t> groups;
    std::vector<std::vector<FurtherTest>> further;
    std::vector<std::vector<double>> beside;
    auto ofNode = [](const auto& map, std::int32_t node) {
        const auto at = map.find(node);
        return at == map.end() ? typename std::decay_t<decltype(map)>::mapped_type() : at->second;
    };
    for (const auto& [node, e] : t.byNode) {
        nodes.push_back(node);
        evidence.push_back(e);
        groups.push_back(ofNode(t.group, node));
        further.push_back(ofNode(t.further, node));
        beside.push_back(ofNode(t.beside, node));
    }
    a.all(nodes, evidence, groups, further, beside);
    if (!a.isReading()) return;
    t = {};
    if (further.size() != nodes.size() || beside.size() != nodes.size()) return;
    for (std::size_t i = 0; i < std::min({nodes.size(), evidence.size(), groups.size()}); ++i) {
        t.byNode[nodes[i]] = evidence[i];
        t.group[nodes[i]] = groups[i];
        t.further[nodes[i]] = further[i];
        t.beside[nodes[i]] = beside[i];
    }
}
void describe(Archive& a, Finding& f) {
    a.all(f.kind, f.id, f.place, f.text, f.position, f.node, f.peak, f.counts, f.beside, f.safetyFactor, f.persistence,
          f.area, f.caseName, f.nearestInterface, f.distance, f.toSupport, f.toLoad, f.print, f.reach);
}
void describe(Archive& a, FindingsResult& r) {
    a.all(r.findings, r.sensitivity, r.heights, r.basin, r.rest);
}
void describe(Archive& a, AnalysisFigure& f) {
    a.all(f.key, f.label, f.loadCase, f.unit, f.value, f.counts, f.note);
}
void describe(Archive& a, AnalysisShape& s) {
    a.all(s.title, s.detail, s.displacement);
}
void describe(Archive& a, AnalysisResult& r) {
    a.all(r.kind, r.figures, r.shapes, r.notes, r.seconds);
}
void describe(Archive& a, field::DensityField& f) {
    a.all(f.cells, f.origin, f.spacing, f.density, f.source);
}

void describe(Archive& a, optimise::Step& s) {
    a.all(s.number, s.objective, s.share, s.sharpness, s.change, s.iterations, s.limits);
}
void describe(Archive& a, MadeField& m) {
    a.all(m.field, m.digest, m.steps, m.cases, m.compliance, m.notes, m.task, m.share, m.within, m.seconds);
}

constexpr std::size_t sealSize = 64;

/// Data with the SHA-256 of its name and of itself behind it: what a disk changes later is found.
std::vector<char> sealed(const std::string& name, std::vector<char> data) {
    Digest digest;
    digest.add(name).addBytes(data.data(), data.size());
    const std::string seal = digest.hex();
    data.insert(data.end(), seal.begin(), seal.end());
    return data;
}

/// Size of the data before its seal. @throws InputError when they do not belong together
std::size_t opened(const std::string& name, const char* data, std::size_t size) {
    if (size >= sealSize) {
        Digest digest;
        digest.add(name).addBytes(data, size - sealSize);
        if (digest.hex() == std::string(data + size - sealSize, sealSize)) return size - sealSize;
    }
    throw InputError(ErrorDetail{"The project file is damaged.",
                                 {},
                                 name,
                                 "data as they were written",
                                 std::to_string(size) + " bytes that are not"});
}

template <class T>
T restored(const char* data, std::size_t size) {
    Archive a(data, size);
    T value;
    a(value);
    return value;
}

/// Calls visit(type, kind) for each type that is stored; the value is null.
template <class Visit>
void eachStored(const Visit& visit) {
    visit(static_cast<const MadeField*>(nullptr), "made field 1");
    visit(static_cast<const SurfaceResult*>(nullptr), "surface 5");
    visit(static_cast<const CageResult*>(nullptr), "cage 2");
    visit(static_cast<const RebuildResult*>(nullptr), "solid 4");
    // the number tells the layout: what an earlier version stored otherwise is not read, hence out of date
    visit(static_cast<const CheckResult*>(nullptr), "check 6");
    visit(static_cast<const FindingsResult*>(nullptr), "findings 4");
    visit(static_cast<const HotspotTests*>(nullptr), "tests 5");
    visit(static_cast<const AnalysisResult*>(nullptr), "analysis 1");
}

}  // namespace

std::vector<char> fieldBytes(const field::DensityField& field) {
    return sealed(sealedField, written(field));
}

field::DensityField fieldFromBytes(const std::string& kind, const char* data, std::size_t size) {
    return restored<field::DensityField>(data, kind == sealedField ? opened(kind, data, size) : size);
}

std::set<std::string> storedNames(const Results& results) {
    std::set<std::string> names;
    eachStored([&]<class T>(const T*, const char* kind) {
        for (const std::string& key : results.keys<T>()) names.insert(kind + (" " + key));
    });
    return names;
}

void storeResults(Database& db, const Results& results, std::set<std::string>& stored) {
    eachStored([&]<class T>(const T*, const char* kind) {
        for (const std::string& key : results.keys<T>()) {
            const std::string name = kind + (" " + key);
            if (stored.contains(name) && !std::is_same_v<T, HotspotTests>) continue;
            const auto value = results.peek<T>(key);
            if (!value) continue;
            db.insert("INSERT OR REPLACE INTO result VALUES(?1, ?2, ?3)", key, kind, sealed(name, written(*value)));
            stored.insert(name);  // what a full disk refused is tried again
        }
    });
}

void restoreResults(Database& db, Results& results) {
    db.forRows("SELECT key, kind, data FROM result",
               [&](const std::string& key, const std::string& kind, const char* data, std::size_t size) {
                   eachStored([&]<class T>(const T*, const char* name) {
                       if (kind == name) results.store(key, restored<T>(data, opened(kind + " " + key, data, size)));
                   });
               });
}

namespace {

/// Files in a folder of its own, one a result, sealed like everything that is stored; gone with the shelter.
class DiskShelter : public Shelter {
  public:
    explicit DiskShelter(const std::string& folder) {
        std::error_code failed;
        fs::create_directories(folder, failed);
        if (failed) return;
        removeOrphans(folder);
        std::string name = folder + "/results-XXXXXX";
        if (!::mkdtemp(name.data())) return;
        lock_ = lock(name);
        if (lock_ >= 0)
            folder_ = name;
        else
            fs::remove(name, failed);
    }
    ~DiskShelter() override {
        if (lock_ < 0) return;
        removeBoth(folder_);
        ::close(lock_);
    }
    DiskShelter(const DiskShelter&) = delete;
    DiskShelter& operator=(const DiskShelter&) = delete;

    double bytes(std::type_index type, const void* value) const override {
        double size = 0;
        if (type == typeid(MeshResult)) {
            const auto& m = *static_cast<const MeshResult*>(value);
            size = static_cast<double>(m.mesh.position.size() * sizeof(Vec3) + m.mesh.tet.size() * sizeof(mesh::Tet10) +
                                       m.corners.position.size() * sizeof(Vec3) + m.corners.tets.size() * 16);
        }
        eachStored([&]<class T>(const T*, const char*) {
            if (type != typeid(T)) return;
            Archive a = Archive::counter();
            a(const_cast<T&>(*static_cast<const T*>(value)));
            size = static_cast<double>(a.counted());
        });
        return size;
    }
    bool isDropped(std::type_index type) const override { return type == typeid(MeshResult); }
    bool put(std::type_index type, const std::string& key, const void* value) override {
        bool kept = false;
        eachStored([&]<class T>(const T*, const char* kind) {
            if (type != typeid(T) || folder_.empty()) return;
            const std::vector<char> data = sealed(kind + (" " + key), written(*static_cast<const T*>(value)));
            const std::string path = pathOf(kind, key), draft = path + ".new";
            std::ofstream out(draft, std::ios::binary);
            out.write(data.data(), static_cast<std::streamsize>(data.size()));
            out.close();
            std::error_code failed;
            if (out.good()) fs::rename(draft, path, failed);  // whoever reads sees the old or the new one
            kept = out.good() && !failed;
        });
        return kept;
    }
    std::shared_ptr<const void> take(std::type_index type, const std::string& key) override {
        std::shared_ptr<const void> value;
        eachStored([&]<class T>(const T*, const char* kind) {
            if (type != typeid(T)) return;
            std::ifstream in(pathOf(kind, key), std::ios::binary);
            const std::vector<char> data{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
            try {
                value = std::make_shared<const T>(
                    restored<T>(data.data(), opened(kind + (" " + key), data.data(), data.size())));
            } catch (const InputError&) {
                value = nullptr;  // another program touched it: out of date
            }
        });
        return value;
    }

  private:
    static void removeBoth(const std::string& folder) {
        std::error_code ignored;
        fs::remove_all(folder, ignored);
        fs::remove(lockPath(folder), ignored);
    }
    /// What programs left that ended without cleaning up: their locks ended with them.
    static void removeOrphans(const std::string& within) {
        std::error_code failed;
        std::vector<std::string> folders;
        for (const auto& f : fs::directory_iterator(within, failed))
            if (f.path().extension() == ".lock" && f.path().filename().string().starts_with("results-"))
                folders.push_back(fs::path(f.path()).replace_extension().string());
        for (const std::string& folder : folders) {
            const int file = lock(folder);
            if (file < 0) continue;
            removeBoth(folder);
            ::close(file);
        }
    }
    std::string pathOf(const std::string& kind, const std::string& key) const {
        return folder_ + "/" + sha256(kind + " " + key);
    }
    std::string folder_;  // empty: none could be made
    int lock_ = -1;
};

}  // namespace

std::shared_ptr<Shelter> diskShelter(const std::string& folder) {
    return std::make_shared<DiskShelter>(folder);
}

std::string cacheFolder() {
    if (const char* own = std::getenv("XDG_CACHE_HOME"); own && *own) return std::string(own) + "/escultura";
    if (const char* home = std::getenv("HOME"); home && *home) return std::string(home) + "/.cache/escultura";
    return (fs::temp_directory_path() / "escultura").string();
}

double resultBudget() {
    if (const char* own = std::getenv("ESCULTURA_RESULT_MEMORY")) return std::atof(own) * 1e9;
    const double memory = machineMemory();
    return memory > 0 ? 0.4 * memory : 4e9;
}

}  // namespace escultura::store

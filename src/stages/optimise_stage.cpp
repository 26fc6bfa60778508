/// A part's duty on a grid: its interfaces' nominal faces, supports and loads carried to kept cells, and the field that
/// they ask for. Long because faces, supports and loads share one numbering of cells and nodes.

#include "stages/optimise_stage.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <set>

#include "base/error.hpp"
#include "base/parallel.hpp"
#include "base/quantity.hpp"
#include "duty/load_kind.hpp"
#include "duty/support_kind.hpp"
#include "stages/kept_faces.hpp"
#include "stages/ready.hpp"

namespace escultura::stages {
namespace {

using optimise::CellUse;
using optimise::Grid;
using FaceKey = std::pair<std::string, std::string>;  // interface, face

constexpr double wantedCells = 100000;
constexpr double mostCells = 2e7;

Box3 designBox(const Part& part, const Regions& regions) {
    const bool hasBox = (part.designSpace.low.array() < part.designSpace.high.array()).all();
    if (!hasBox && !part.designBody)
        throw InputError(ErrorDetail{"A field is made inside the design space.", part.path, "design_space",
                                     "a box (low, high) or a body", "none"});
    return regions.designSpace;
}

/// Cells along the box, with symmetry planes on their sides where they lie along an axis.
Grid gridOver(const Part& part, const Box3& box, double size) {
    Grid g;
    g.spacing = Vec3::Constant(size);
    for (int a = 0; a < 3; ++a) {
        double low = box.low[a];
        for (const SymmetryPlane& s : part.symmetry)
            if (std::abs(s.normal[a]) > 1 - 1e-9 && s.point[a] > box.low[a] && s.point[a] < box.high[a]) {
                low = s.point[a] - std::ceil((s.point[a] - box.low[a]) / size - 1e-6) * size;
                break;
            }
        g.origin[a] = low;
        g.cells[static_cast<std::size_t>(a)] =
            std::max(1, static_cast<int>(std::ceil((box.high[a] - low) / size - 1e-6)));
    }
    if (static_cast<double>(g.cells[0]) * g.cells[1] * g.cells[2] > mostCells)
        throw InputError(ErrorDetail{"The grid would be too large.", part.path, "optimisation.cell_size",
                                     "at most " + formatNumber(mostCells / 1e6) + " million cells",
                                     formatNumber(static_cast<double>(g.cells[0]) * g.cells[1] * g.cells[2] / 1e6, 3) +
                                         " million of " + formatNumber(size) + " mm"});
    return g;
}

double cellSizeOf(const Part& part, const Box3& box) {
    if (part.optimisation.cellSize > 0) return part.optimisation.cellSize;
    const double size = std::cbrt(box.size().prod() / wantedCells);
    // a round number of two digits
    const double unit = std::pow(10.0, std::floor(std::log10(size)) - 1);
    return std::ceil(size / unit - 1e-9) * unit;
}

/// Outer radius of the material that an interface keeps, as keptCells() takes it.
double outerRadius(const Interface& i, double cell) {
    return 0.5 * (i.ringDiameter > 0 ? i.ringDiameter : i.boreDiameter + 3 * cell);
}

/// Curved triangles on the nominal faces of interfaces, and the nodes of the grid beside them.
class Faces {
  public:
    Faces(const Part& part, const Grid& grid, const std::vector<std::vector<std::size_t>>& kept)
        : part_(part), grid_(grid), kept_(kept) {
        std::set<FaceKey> wanted;
        auto want = [&](const FaceReference& on) {
            for (const std::string& i : on.interfaces) wanted.insert({i, on.face});
        };
        for (const Support& s : part.supports) want(s.on);
        for (const LoadCase& c : part.loadCases)
            for (const Load& l : part.loadsOf(c))
                if (l.onFaces()) want(l.on);
        for (const FaceKey& k : wanted) addFace(k);
        faceNodes_ = mesh_.position.size();
        for (const FaceKey& k : wanted) addGridNodes(k);
        mesh_.cornerCount = mesh_.position.size();
    }
    const mesh::TetMesh& mesh() const { return mesh_; }
    const std::vector<std::int32_t>& faces(const FaceKey& k) const { return faces_.at(k); }
    const std::set<std::int32_t>& gridNodes(const FaceKey& k) const { return gridNodes_.at(k); }
    std::size_t gridNode(std::int32_t node) const { return nodeOf_[static_cast<std::size_t>(node) - faceNodes_]; }
    std::size_t faceNodes() const { return faceNodes_; }

    /// Corners of the nearest cell that an interface keeps, with weights that move a force there without changing
    /// resultant or moment. @param inside  the place is moved into the cell, so that no weight is negative
    void spread(std::int32_t node, bool inside, const std::function<void(std::size_t, double)>& use) const {
        const Vec3 p = mesh_.position[static_cast<std::size_t>(node)];
        const auto& cells = kept_[interfaceOf_[static_cast<std::size_t>(node)]];
        std::size_t best = cells.front();
        double least = 1e300;
        for (const std::size_t c : cells) {
            // to the cell's box; the middle decides between those that touch
            const Vec3 d = (p - grid_.centre(c)).cwiseAbs();
            const double distance = (d - 0.5 * grid_.spacing).cwiseMax(0.0).squaredNorm() + 1e-6 * d.squaredNorm();
            if (distance < least) {
                least = distance;
                best = c;
            }
        }
        Vec3 xi = (p - grid_.centre(best)).cwiseQuotient(grid_.spacing) + Vec3::Constant(0.5);
        if (inside) xi = xi.cwiseMax(0.0).cwiseMin(1.0);
        const auto w = optimise::brickWeights(xi);
        for (unsigned k = 0; k < 8; ++k)
            if (w[k] != 0) use(grid_.corner(best, k), w[k]);
    }

  private:
    std::size_t indexOf(const std::string& name) const {
        for (std::size_t i = 0; i < part_.interfaces.size(); ++i)
            if (part_.interfaces[i].name == name) return i;
        throw InputError("There is no interface '" + name + "'.");
    }
    std::int32_t add(const Vec3& p, std::size_t interface) {
        mesh_.position.push_back(p);
        interfaceOf_.push_back(interface);
        return static_cast<std::int32_t>(mesh_.position.size() - 1);
    }
    /// A patch of n x m quadrilaterals in two triangles each. @param flip  turns their normals around
    void addPatch(int n, int m, bool flip, std::size_t interface, const std::function<Vec3(double, double)>& at,
                  std::vector<std::int32_t>& faces) {
        std::map<std::pair<int, int>, std::int32_t> nodes;
        auto node = [&](int i, int j) {  // in half steps; closed around in i
            const int wrapped = i % (2 * n);
            const auto [found, isNew] = nodes.try_emplace({wrapped, j}, 0);
            if (isNew) found->second = add(at(wrapped / (2.0 * n), j / (2.0 * m)), interface);
            return found->second;
        };
        for (int i = 0; i < 2 * n; i += 2)
            for (int j = 0; j < 2 * m; j += 2)
                for (int half = 0; half < 2; ++half) {
                    const int c[3][2] = {{i, j}, {i + 2, half ? j + 2 : j}, {half ? i : i + 2, j + 2}};
                    int order[3] = {0, 1, 2};
                    if (flip) std::swap(order[1], order[2]);
                    mesh::Triangle6 t{};
                    for (std::size_t k = 0; k < 3; ++k) {
                        const auto& a = c[order[k]];
                        const auto& b = c[order[(k + 1) % 3]];
                        t[k] = node(a[0], a[1]);
                        t[3 + k] = node((a[0] + b[0]) / 2, (a[1] + b[1]) / 2);
                    }
                    faces.push_back(static_cast<std::int32_t>(mesh_.boundary.size()));
                    mesh_.boundary.push_back(t);
                    mesh_.owner.push_back(0);
                }
    }
    /// The face of an outline by squares whose middles lie in it.
    void addOutline(const Interface& i, std::size_t index, bool end, double step, std::vector<std::int32_t>& faces) {
        const shape::Outline outline(i.axis, outlineOf(i));
        const auto [u, v] = perpendicular(i.axis);
        const Vec3 middle = i.origin + (end ? i.length : 0.0) * i.axis;
        const int n = std::clamp(static_cast<int>(0.5 * i.ringDiameter / step) + 1, 4, 200);
        const double edge = 0.5 * i.ringDiameter / n;
        for (int a = -n; a < n; ++a)
            for (int b = -n; b < n; ++b) {
                auto at = [&, u = u, v = v](double s, double t) {
                    return Vec3(middle + edge * (a + s) * u + edge * (b + t) * v);
                };
                if (outline.distance(at(0.5, 0.5)) > 0) continue;
                for (int half = 0; half < 2; ++half) {
                    Vec3 corner[3] = {at(0, 0), half ? at(1, 1) : at(1, 0), half ? at(0, 1) : at(1, 1)};
                    if (!end) std::swap(corner[1], corner[2]);  // looks against the axis
                    mesh::Triangle6 t{};
                    for (std::size_t k = 0; k < 3; ++k) {
                        t[k] = add(corner[k], index);
                        t[3 + k] = add(0.5 * (corner[k] + corner[(k + 1) % 3]), index);
                    }
                    faces.push_back(static_cast<std::int32_t>(mesh_.boundary.size()));
                    mesh_.boundary.push_back(t);
                    mesh_.owner.push_back(0);
                }
            }
    }
    /// Faces of a body by their triangles, halved until they are as small as cells.
    void addTriangles(const Interface& i, std::size_t index, double step, std::vector<std::int32_t>& faces) {
        for (const shape::FacePatch& f : i.kept->patches()) {
            if (f.interface != i.number) continue;
            std::vector<std::array<Vec3, 3>> open = f.triangles;
            while (!open.empty()) {
                const std::array<Vec3, 3> t = open.back();
                open.pop_back();
                std::size_t longest = 0;
                auto edge = [&](std::size_t k) { return (t[(k + 1) % 3] - t[k]).norm(); };
                for (std::size_t k = 1; k < 3; ++k)
                    if (edge(k) > edge(longest)) longest = k;
                if (edge(longest) > 1.5 * step) {
                    const Vec3 &a = t[longest], &b = t[(longest + 1) % 3], &c = t[(longest + 2) % 3];
                    const Vec3 middle = 0.5 * (a + b);
                    open.push_back({a, middle, c});
                    open.push_back({middle, b, c});
                    continue;
                }
                mesh::Triangle6 six{};
                for (std::size_t k = 0; k < 3; ++k) {
                    six[k] = add(t[k], index);
                    six[3 + k] = add(0.5 * (t[k] + t[(k + 1) % 3]), index);
                }
                faces.push_back(static_cast<std::int32_t>(mesh_.boundary.size()));
                mesh_.boundary.push_back(six);
                mesh_.owner.push_back(0);
            }
        }
    }
    /// Small discs across all three axes in places along the lines: forces are spread over the cells around them.
    void addLines(const Interface& i, std::size_t index, double step, std::vector<std::int32_t>& faces) {
        auto disc = [&](const Vec3& p, int axis) {
            const Vec3 u = 0.4 * step * Vec3::Unit((axis + 1) % 3), v = 0.4 * step * Vec3::Unit((axis + 2) % 3);
            auto at = [&](double s, double t) {
                return Vec3(p + (0.01 + 0.99 * t) * (std::cos(2 * M_PI * s) * u + std::sin(2 * M_PI * s) * v));
            };
            addPatch(6, 1, false, index, at, faces);
        };
        for (const auto& line : i.lines)
            for (std::size_t k = 0; k < line.size(); ++k) {
                const Vec3 along = k + 1 < line.size() ? Vec3(line[k + 1] - line[k]) : Vec3(Vec3::Zero());
                if (line.size() > 1 && k + 1 == line.size()) break;
                const int count = std::max(1, static_cast<int>(std::lround(along.norm() / step)));
                for (int n = 0; n < count; ++n)
                    for (int axis = 0; axis < 3; ++axis) disc(line[k] + (n + 0.5) / count * along, axis);
            }
    }
    void addFace(const FaceKey& key) {
        const std::size_t index = indexOf(key.first);
        const Interface& i = part_.interfaces[index];
        if (kept_[index].empty())
            throw InputError(ErrorDetail{"An interface keeps no cell of the grid.", part_.path,
                                         "interface '" + i.name + "'", "room for material in the design space",
                                         "none at cells of " + formatNumber(grid_.spacing[0]) + " mm"});
        auto& faces = faces_[key];
        const auto [u, v] = perpendicular(i.axis);
        const double step = 0.7 * grid_.spacing.minCoeff();
        const double inner = 0.5 * i.boreDiameter, outer = outerRadius(i, grid_.spacing.maxCoeff());
        const bool bore = key.second == "bore", side = key.second == "side";
        if (i.kind == Interface::Kind::faces) return addTriangles(i, index, step, faces);
        if (i.isOfLines()) return addLines(i, index, step, faces);
        if (!i.outline.empty()) return addOutline(i, index, key.second == "end", step, faces);
        auto ring = [&, u = u, v = v](double s) {
            return Vec3(std::cos(2 * M_PI * s) * u + std::sin(2 * M_PI * s) * v);
        };
        const double radius = bore ? inner : outer;
        const int n = std::clamp(static_cast<int>(2 * M_PI * radius / step), 24, 400);
        if (bore || side) {
            const int m = std::clamp(static_cast<int>(i.length / step), 1, 200);
            // u, v, axis are right-handed: along the rim, then along the axis looks outward
            addPatch(
                n, m, bore, index,
                [&](double s, double t) { return Vec3(i.origin + t * i.length * i.axis + radius * ring(s)); }, faces);
        } else {
            const bool end = key.second == "end";
            const double least = std::max(inner, 1e-3 * outer);
            const int m = std::clamp(static_cast<int>((outer - least) / step), 1, 200);
            const Vec3 middle = i.origin + (end ? i.length : 0.0) * i.axis;
            // along the rim, then outward looks against the axis
            addPatch(
                n, m, end, index,
                [&](double s, double t) { return Vec3(middle + (least + t * (outer - least)) * ring(s)); }, faces);
        }
    }
    /// Nodes of kept cells within half a cell of the face.
    void addGridNodes(const FaceKey& key) {
        const std::size_t index = indexOf(key.first);
        const Interface& i = part_.interfaces[index];
        std::set<std::size_t> near;
        auto collect = [&](double slack) {
            for (const std::size_t c : kept_[index])
                for (unsigned k = 0; k < 8; ++k) {
                    const std::size_t n = grid_.corner(c, k);
                    const Vec3 d = grid_.position(n) - i.origin;
                    const double along = d.dot(i.axis);
                    const Vec3 radial = d - along * i.axis;
                    Vec3 normal = i.axis;
                    double distance = along - (key.second == "end" ? i.length : 0.0);
                    if (key.second == "bore" || key.second == "side") {
                        normal = radial.norm() > 1e-9 ? Vec3(radial.normalized()) : perpendicular(i.axis)[0];
                        distance = radial.norm() - (key.second == "bore" ? 0.5 * i.boreDiameter
                                                                         : outerRadius(i, grid_.spacing.maxCoeff()));
                    }
                    if (i.isOfLines()) {
                        if (shape::distanceTo(i.lines, grid_.position(n)) <=
                            slack * std::max(i.length, 0.5 * grid_.spacing.norm()))
                            near.insert(n);
                        continue;
                    }
                    if (i.kind == Interface::Kind::faces) {
                        const auto nearest = i.kept->nearest(grid_.position(n), 1e300, i.number);
                        normal = nearest.normal;
                        distance = nearest.height;
                    }
                    const double half = 0.5 * normal.cwiseAbs().dot(grid_.spacing);
                    if (std::abs(distance) <= slack * half) near.insert(n);
                }
        };
        for (double slack = 1.0001; near.empty() && slack < 4; slack *= 1.5) collect(slack);
        auto& nodes = gridNodes_[key];
        for (const std::size_t n : near) {
            nodes.insert(add(grid_.position(n), index));
            nodeOf_.push_back(n);
        }
    }

    const Part& part_;
    const Grid& grid_;
    const std::vector<std::vector<std::size_t>>& kept_;
    mesh::TetMesh mesh_;
    std::vector<std::size_t> interfaceOf_, nodeOf_;
    std::size_t faceNodes_ = 0;
    std::map<FaceKey, std::vector<std::int32_t>> faces_;
    std::map<FaceKey, std::set<std::int32_t>> gridNodes_;
};

class Builder {
  public:
    Builder(const Part& part, double cellSize, std::vector<std::string>* notes)
        : own_(std::make_shared<const Part>(withFaces(part))), part_(*own_), notes_(notes) {
        const Regions regions = loadRegions(part_, Box3{Vec3::Zero(), Vec3::Ones()});
        p_.grid = gridOver(part_, designBox(part_, regions), cellSize);
        fillUse(regions);
        faces_ = std::make_unique<Faces>(part_, p_.grid, kept_);
    }
    optimise::Problem build() {
        const elastic::Material& m = part_.material;
        p_.youngsModulus = m.youngsModulus;
        p_.poissonsRatio = m.poissonsRatio;
        if (m.orthotropic) {
            p_.youngsModulus = m.orthotropic->youngs.mean();
            p_.poissonsRatio = std::clamp(m.orthotropic->poissons.mean(), -0.9, 0.45);
            note("The material is taken as isotropic, with the mean of its moduli.");
        }
        const std::vector<std::string> sets = part_.supportSets();  // one at most: requireReady()
        for (const Support& s : part_.supports)
            if (Part::acts(s, sets.empty() ? std::string() : sets.front())) addSupport(s);
        for (const LoadCase& c : part_.loadCases)
            if (c.use != LoadCase::Use::off) addCase(c);
        combine();
        for (const SymmetryPlane& s : part_.symmetry) {
            if (!part_.optimisation.symmetric) break;
            addMirror(s);
        }
        return std::move(p_);
    }

  private:
    void note(const std::string& text) {
        if (notes_ && std::find(notes_->begin(), notes_->end(), text) == notes_->end()) notes_->push_back(text);
    }
    void fillUse(const Regions& regions) {
        const Grid& g = p_.grid;
        field::DensityField all;
        all.cells = g.cells;
        all.origin = g.origin;
        all.spacing = g.spacing;
        all.density.assign(g.cellCount(), 1.F);
        all.source = "grid of the optimisation";
        const std::vector<field::KeptCells> kept = keptCells(part_, all);
        const std::vector<char> isVoid = voidCells(part_, regions, all);
        p_.use.assign(g.cellCount(), CellUse::free);
        parallelFor(g.cellCount(), [&](std::size_t c) {
            const Vec3 p = g.centre(c);
            if (isVoid[c] || !regions.designSpace.contains(p) ||
                (regions.designBody && !(regions.designBody->value(p) < 0)))
                p_.use[c] = CellUse::empty;
        });
        p_.unjudged.assign(g.cellCount(), 0);
        for (std::size_t i = 0; i < kept.size(); ++i) {
            const Interface& of = part_.interfaces[i];
            // faces of a body keep what lies in it
            const bool ring = of.ringDiameter > 0 && of.kind != Interface::Kind::faces && !of.isOfLines();
            std::vector<std::size_t> cells;
            for (const std::size_t c : kept[i].cells) {
                if (isVoid[c] || (!ring && p_.use[c] == CellUse::empty)) continue;
                p_.use[c] = CellUse::solid;
                cells.push_back(c);
            }
            kept_.push_back(std::move(cells));
        }
        for (std::size_t c = 0; c < g.cellCount(); ++c) {
            if (p_.use[c] != CellUse::solid) continue;
            const auto at = g.cellAt(c);
            for (int k = std::max(0, at[2] - 1); k <= std::min(g.cells[2] - 1, at[2] + 1); ++k)
                for (int j = std::max(0, at[1] - 1); j <= std::min(g.cells[1] - 1, at[1] + 1); ++j)
                    for (int i = std::max(0, at[0] - 1); i <= std::min(g.cells[0] - 1, at[0] + 1); ++i)
                        p_.unjudged[g.cell(i, j, k)] = 1;
        }
    }
    void addSupport(const Support& s) {
        const Mat3 axes = part_.axesOf(s.frame);
        for (const std::string& name : s.on.interfaces) {
            const Interface& interface = *part_.findInterface(name);
            const FaceKey key{name, s.on.face};
            const auto& nodes = faces_->gridNodes(key);
            if (nodes.empty())
                throw InputError(ErrorDetail{"A support has no cell to act on.", part_.path,
                                             "support on '" + name + "', face '" + s.on.face + "'",
                                             "material beside the face", "none"});
            auto hold = [&](std::int32_t node, const Vec3& direction) {
                p_.holds.push_back({faces_->gridNode(node), direction});
                heldBy_.push_back(key);
            };
            elastic::Supports others;
            supportKind(s.kind).apply(s, {faces_->mesh(), interface, faces_->faces(key), nodes, axes, others, hold});
            for (const elastic::ElasticBed& bed : others.beds) addBed(bed);
            // a mean or a rigid motion that is held: here the whole face is
            for (const elastic::MeanHold& mean : others.meanHolds) holdWhole(nodes, mean.held, mean.frame, name, hold);
            for (const elastic::RigidGroup& group : others.rigidGroups)
                holdWhole(nodes, group.held, Mat3::Identity(), name, hold);
        }
    }
    void holdWhole(const std::set<std::int32_t>& nodes, const std::array<bool, 6>& held, const Mat3& frame,
                   const std::string& name, const std::function<void(std::int32_t, const Vec3&)>& hold) {
        for (const std::int32_t n : nodes)
            for (int a = 0; a < 3; ++a)
                if (held[static_cast<std::size_t>(a)]) hold(n, frame.col(a));
        if (held[0] || held[1] || held[2])
            note("The support on " + name +
                 " holds every point of its face while the field is made, not its mean motion.");
        else
            note("The support on " + name + " holds rotations only: it holds nothing while the field is made.");
    }
    void addBed(const elastic::ElasticBed& bed) {
        const auto& m = faces_->mesh();
        for (const std::int32_t f : bed.faces) {
            const auto& t = m.boundary[static_cast<std::size_t>(f)];
            const Vec3 a = m.position[static_cast<std::size_t>(t[0])], b = m.position[static_cast<std::size_t>(t[1])],
                       c = m.position[static_cast<std::size_t>(t[2])];
            const Vec3 cross = (b - a).cross(c - a);
            const double area = 0.5 * cross.norm();
            if (!(area > 0)) continue;
            const Mat3 n = cross.normalized() * cross.normalized().transpose();
            const Mat3 stiffness = area / 3 * (bed.normal * n + bed.tangential * (Mat3::Identity() - n));
            for (std::size_t k = 3; k < 6; ++k)  // the middles of the sides
                faces_->spread(t[k], true, [&](std::size_t node, double w) {
                    p_.springs.push_back({node, w * stiffness});
                });
        }
    }
    void addCase(const LoadCase& c) {
        optimise::GridCase g;
        g.name = c.name;
        const auto& m = faces_->mesh();
        elastic::NodalForces forces(m.position.size(), Vec3::Zero()), unused(m.position.size(), Vec3::Zero());
        MeantLoad meant;
        std::vector<double> given;
        std::vector<Load> whole;
        for (const Load& l : part_.loadsOf(c)) {
            const LoadKind& kind = loadKind(l.kind);
            if (kind.bodyForce) {
                whole.push_back(l);
                continue;
            }
            std::vector<LoadedFace> on;
            for (const std::string& name : l.on.interfaces) {
                const Interface& i = *part_.findInterface(name);
                on.push_back({i, faces_->faces({name, l.on.face}), faceMiddle(i, l.on.face)});
            }
            const double share = l.sharedTotal && !on.empty() ? 1.0 / static_cast<double>(on.size()) : 1.0;
            auto move = [&](const Interface& interface, const Vec3& displacement) {
                given.resize(p_.holds.size(), 0.0);
                for (std::size_t h = 0; h < given.size(); ++h)
                    if (heldBy_[h] == FaceKey(interface.name, l.on.face))
                        given[h] = p_.holds[h].direction.dot(displacement);
            };
            LoadTarget target{part_,  m,     on,   part_.axesOf(l.frame),    share, forces,
                              unused, meant, move, [] { return MeshMass(); }};
            kind.apply(l, target);
            if (l.rigid) note("A rigid face of a remote force may deform while the field is made.");
        }
        std::map<std::size_t, Vec3> sum;
        for (std::size_t n = 0; n < faces_->faceNodes(); ++n) {
            if (forces[n].isZero()) continue;
            faces_->spread(static_cast<std::int32_t>(n), false, [&](std::size_t node, double w) {
                sum.try_emplace(node, Vec3::Zero()).first->second += c.factor * w * forces[n];
            });
        }
        g.forces.assign(sum.begin(), sum.end());
        for (double& v : given) v *= c.factor;
        g.given = std::move(given);
        if (!whole.empty())
            g.bodyForce = [this_part = own_, whole, factor = c.factor](const Vec3& p) {
                Vec3 f = Vec3::Zero();
                for (const Load& l : whole) f += factor * loadKind(l.kind).bodyForce(l, *this_part, p);
                return f;
            };
        p_.cases.push_back(std::move(g));
    }
    /// Adds combinations as cases of their own and drops cases that serve them only.
    void combine() {
        std::vector<optimise::GridCase> all;
        for (const optimise::GridCase& g : p_.cases)
            for (const LoadCase& c : part_.loadCases)
                if (c.name == g.name && c.use == LoadCase::Use::check) all.push_back(g);
        for (const Combination& combination : part_.combinations) {
            if (!combination.on) continue;
            optimise::GridCase sum;
            sum.name = combination.name;
            std::map<std::size_t, Vec3> forces;
            std::vector<std::pair<std::function<Vec3(const Vec3&)>, double>> whole;
            for (const auto& [name, factor] : combination.terms)
                for (const optimise::GridCase& g : p_.cases) {
                    if (g.name != name) continue;
                    for (const auto& [node, f] : g.forces)
                        forces.try_emplace(node, Vec3::Zero()).first->second += factor * f;
                    if (!g.given.empty()) {
                        sum.given.resize(p_.holds.size(), 0.0);
                        for (std::size_t h = 0; h < g.given.size(); ++h) sum.given[h] += factor * g.given[h];
                    }
                    if (g.bodyForce) whole.emplace_back(g.bodyForce, factor);
                }
            sum.forces.assign(forces.begin(), forces.end());
            if (!whole.empty())
                sum.bodyForce = [whole](const Vec3& p) {
                    Vec3 f = Vec3::Zero();
                    for (const auto& [force, factor] : whole) f += factor * force(p);
                    return f;
                };
            all.push_back(std::move(sum));
        }
        for (optimise::GridCase& g : all)
            if (!g.given.empty()) g.given.resize(p_.holds.size(), 0.0);
        p_.cases = std::move(all);
    }
    void addMirror(const SymmetryPlane& s) {
        for (int a = 0; a < 3; ++a) {
            if (std::abs(s.normal[a]) < 1 - 1e-9) continue;
            const double at = 2 * (s.point[a] - p_.grid.origin[a]) / p_.grid.spacing[a];
            if (std::abs(at - std::round(at)) < 1e-6) {
                p_.mirrors.push_back({a, static_cast<int>(std::round(at))});
                return;
            }
        }
        note("A symmetry plane that does not lie along the grid is not kept while the field is made.");
    }

    std::shared_ptr<const Part> own_;  ///< outlives this: the problem asks it for forces
    const Part& part_;
    std::vector<std::string>* notes_;
    optimise::Problem p_;
    std::vector<std::vector<std::size_t>> kept_;  ///< [interfaces] solid cells
    std::unique_ptr<Faces> faces_;
    std::vector<FaceKey> heldBy_;  ///< [holds]
};

void requireReady(const Part& part) {
    auto refuse = [&](const std::string& place, const std::string& expected, const std::string& found) {
        throw InputError(ErrorDetail{"The field cannot be made yet.", part.path, place, expected, found});
    };
    if (part.supports.empty()) refuse("supports", "a support on at least one interface", "none");
    const std::vector<std::string> sets = part.supportSets();
    if (sets.size() > 1)
        refuse("load_cases", "load cases with the same set of supports: a field is made for one way to hold the part",
               std::to_string(sets.size()) + " sets");
    if (const auto free = freeMotionsOf(withFaces(part), sets.empty() ? "" : sets.front()); !free.empty())
        refuse("supports", "a part that is held", "free: " + listed(free));
    bool any = false;
    for (const LoadCase& c : part.loadCases) any = any || (c.use != LoadCase::Use::off && !part.loadsOf(c).empty());
    if (!any) refuse("load_cases", "a load case with a load", "none");
}

field::DensityField fieldOf(const Grid& grid, std::vector<float> density, const std::string& source) {
    field::DensityField f;
    f.cells = grid.cells;
    f.origin = grid.origin;
    f.spacing = grid.spacing;
    f.density = std::move(density);
    f.source = source;
    return f;
}

optimise::Choice choiceOf(const Part& part, const optimise::Problem& p) {
    const Optimisation& o = part.optimisation;
    optimise::Choice c;
    c.aim = o.aim == Optimisation::Aim::stiffest ? optimise::Aim::stiffest : optimise::Aim::lightest;
    c.share = o.mass > 0 ? o.mass / (p.volume() * part.material.density) : o.share;
    c.worstCase = o.worstCase;
    if (!o.weights.empty()) {
        c.weights.assign(p.cases.size(), 1.0);
        for (const auto& [name, weight] : o.weights)
            for (std::size_t i = 0; i < p.cases.size(); ++i)
                if (p.cases[i].name == name) c.weights[i] = weight;
    }
    if (o.safetyFactor > 0) c.allowable = elastic::strength(part.material) / o.safetyFactor;
    c.complianceOver = o.compliance;
    c.filterRadius = o.filterRadius > 0 ? o.filterRadius : 2 * p.grid.spacing.maxCoeff();
    c.steps = o.steps;
    for (const MakingRule& r : o.rules) {
        optimise::LayerRule rule;
        r.direction.cwiseAbs().maxCoeff(&rule.axis);
        rule.kind = r.kind == MakingRule::Kind::overhang ? optimise::LayerRule::Kind::overhang
                                                         : optimise::LayerRule::Kind::draw;
        rule.up = r.direction[rule.axis] > 0;
        c.rules.push_back(rule);
    }
    return c;
}

}  // namespace

GridPlan planGrid(const Part& part) {
    const Regions regions = loadRegions(part, Box3{Vec3::Zero(), Vec3::Ones()});
    return planGrid(part, designBox(part, regions));
}

GridPlan planGrid(const Part& part, const Box3& box) {
    GridPlan plan;
    plan.grid = gridOver(part, box, cellSizeOf(part, box));
    plan.cells = plan.grid.cellCount();
    plan.unknowns = 3 * plan.grid.nodeCount();
    for (const LoadCase& c : part.loadCases) plan.cases += c.use == LoadCase::Use::check;
    for (const Combination& c : part.combinations) plan.cases += c.on;
    // measured: stiffness and its coarse grids 260 bytes a cell, and the vectors of each case
    plan.memory = static_cast<double>(plan.cells) * (700 + 400.0 * plan.cases);
    const double perStep = part.optimisation.aim == Optimisation::Aim::stiffest ? 2.2e-6 : 5e-6;
    plan.seconds = static_cast<double>(plan.cells) * std::max(plan.cases, 1) * part.optimisation.steps * perStep;
    return plan;
}

optimise::Problem gridProblem(const Part& part, double cellSize, std::vector<std::string>* notes) {
    return Builder(part, cellSize, notes).build();
}

MadeField makeField(const Part& part, const FieldListener& listener, Progress& progress) {
    const auto begin = std::chrono::steady_clock::now();
    requireReady(part);
    MadeField made;
    made.task = describe(part.optimisation);
    progress.step("Laying the grid");
    const GridPlan plan = planGrid(part);
    const double cell = plan.grid.spacing[0];
    const optimise::Problem problem = gridProblem(part, cell, &made.notes);
    std::optional<optimise::Problem> coarse;
    if (plan.cells > 20000) {
        try {
            coarse = gridProblem(part, 2 * cell);
        } catch (const InputError&) {  // an interface is smaller than such cells
        }
    }
    const optimise::Choice choice = choiceOf(part, problem);
    const std::string source = "made here: " + made.task;
    optimise::Outcome out = optimise::makeDensities(
        problem, coarse ? &*coarse : nullptr, choice,
        [&](const optimise::Step& step, const std::vector<double>& density) {
            return !listener || listener(step, fieldOf(problem.grid, {density.begin(), density.end()}, source));
        },
        progress);
    made.field = fieldOf(problem.grid, std::move(out.density), source);
    made.steps = std::move(out.steps);
    for (const auto& c : problem.cases) made.cases.push_back(c.name);
    made.compliance = std::move(out.compliance);
    made.share = out.share;
    made.within = out.within;
    if (choice.aim == optimise::Aim::lightest && choice.allowable > 0)
        made.notes.push_back(
            "The safety factor is kept on the grid only: its cells know no notches, and smoothing thins slender "
            "members. "
            "Only the check tells what the part bears; expect less than on the grid.");
    if (out.stopped)
        made.notes.push_back("Stopped after " + std::to_string(made.steps.size()) + " of at most " +
                             std::to_string(choice.steps) + " steps.");
    if (!out.within) made.notes.push_back("The limits are not met: the field is as near as it came.");
    made.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    return made;
}

}  // namespace escultura::stages

/// Patches of a cage in the order in which they are made: stencils, borders, insides, normals. Long because every step
/// works on the tables of the ones before it.

#include "cage/patches.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "base/error.hpp"
#include "base/parallel.hpp"

namespace escultura::cage {

void patchBasis(double u, double* value, double* derivative) {
    // two Bezier spans; the pole between them is the mean of its neighbours (C1)
    const bool second = u > 0.5;
    const double t = second ? 2 * u - 1 : 2 * u, s = 1 - t;
    const double b[4] = {s * s * s, 3 * s * s * t, 3 * s * t * t, t * t * t};
    const double d[4] = {-6 * s * s, 6 * s * (s - 2 * t), 6 * t * (2 * s - t), 6 * t * t};
    std::fill(value, value + 6, 0.0);
    if (derivative) std::fill(derivative, derivative + 6, 0.0);
    for (int k = 0; k < 4; ++k) {
        // places 0 to 6 of the joined control points; 3 is the mean of 2 and 4
        const int place = second ? k + 3 : k;
        auto add = [&](int pole, double share) {
            value[pole] += share * b[k];
            if (derivative) derivative[pole] += share * d[k];
        };
        if (place == 3) {
            add(2, 0.5);
            add(3, 0.5);
        } else {
            add(place < 3 ? place : place - 1, 1);
        }
    }
}

Vec3 Patch::point(double u, double v) const {
    double a[6], b[6];
    patchBasis(u, a, nullptr);
    patchBasis(v, b, nullptr);
    Vec3 p = Vec3::Zero();
    for (int j = 0; j < 6; ++j)
        for (int i = 0; i < 6; ++i) p += a[i] * b[j] * pole[6 * j + i];
    return p;
}

Vec3 Patch::cross(double u, double v) const {
    double a[6], b[6], da[6], db[6];
    patchBasis(u, a, da);
    patchBasis(v, b, db);
    Vec3 du = Vec3::Zero(), dv = Vec3::Zero();
    for (int j = 0; j < 6; ++j)
        for (int i = 0; i < 6; ++i) {
            du += da[i] * b[j] * pole[6 * j + i];
            dv += a[i] * db[j] * pole[6 * j + i];
        }
    return du.cross(dv);
}

namespace {

/// One Catmull-Clark step of a closed cage with smooth rules.
struct Finer {
    Cage cage;  // vertices: old vertices, edges, faces; faces: four a face, corner k first
    std::size_t vertices, edges;
};

Finer refineOnce(const Cage& cage, const Connectivity& c) {
    Finer r;
    r.vertices = cage.position.size();
    r.edges = c.edge.size();
    auto& p = r.cage.position;
    p.assign(r.vertices + r.edges + cage.face.size(), Vec3::Zero());
    auto facePoint = [&](std::size_t f) -> Vec3& { return p[r.vertices + r.edges + f]; };
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        for (auto v : cage.face[f]) facePoint(f) += 0.25 * cage.position[v];
    for (std::size_t e = 0; e < r.edges; ++e) {
        const auto& x = c.edge[e];
        p[r.vertices + e] =
            0.25 * (cage.position[x.a] + cage.position[x.b] + facePoint(x.face[0]) + facePoint(x.face[1]));
    }
    for (std::size_t v = 0; v < r.vertices; ++v) {
        const double n = static_cast<double>(c.edgesOfVertex[v].size());
        if (n == 0) continue;
        Vec3 f = Vec3::Zero(), m = Vec3::Zero();
        for (auto g : c.facesOfVertex[v]) f += facePoint(g) / n;
        for (auto e : c.edgesOfVertex[v]) m += 0.5 * (cage.position[c.edge[e].a] + cage.position[c.edge[e].b]) / n;
        p[v] = (f + 2 * m + (n - 3) * cage.position[v]) / n;
    }
    for (std::size_t f = 0; f < cage.face.size(); ++f)
        for (int k = 0; k < 4; ++k)
            r.cage.face.push_back({cage.face[f][k], static_cast<std::int32_t>(r.vertices + c.edgeOfFace[f][k]),
                                   static_cast<std::int32_t>(r.vertices + r.edges + f),
                                   static_cast<std::int32_t>(r.vertices + c.edgeOfFace[f][(k + 3) % 4])});
    return r;
}

/// The ring around a vertex: neighbours and the faces between them, counter-clockwise.
struct Ring {
    std::vector<std::int32_t> neighbour, face;  // face[i] lies between neighbour[i] and neighbour[i+1]
    Vec3 limit = Vec3::Zero();
    std::vector<Vec3> edgePoint;  // Bezier point beside the limit point towards neighbour i
    std::vector<Vec3> turn;       // r of neighbour i
    int valence() const { return static_cast<int>(neighbour.size()); }
    int indexOf(std::int32_t v) const {
        return static_cast<int>(std::find(neighbour.begin(), neighbour.end(), v) - neighbour.begin());
    }
};

Ring ringOf(const Cage& cage, const Connectivity& c, std::int32_t v) {
    Ring r;
    std::int32_t f = c.facesOfVertex[v].front();
    const std::int32_t start = f;
    do {
        int k = 0;
        while (cage.face[f][k] != v) ++k;
        r.neighbour.push_back(cage.face[f][(k + 1) % 4]);
        r.face.push_back(f);
        f = c.across(c.edgeOfFace[f][(k + 3) % 4], f);
    } while (f != start && f >= 0);
    const int n = r.valence();
    std::vector<Vec3> m(n), q(n);
    for (int i = 0; i < n; ++i) {
        m[i] = 0.5 * (cage.position[v] + cage.position[r.neighbour[i]]);
        const Quad& x = cage.face[r.face[i]];
        q[i] = 0.25 * (cage.position[x[0]] + cage.position[x[1]] + cage.position[x[2]] + cage.position[x[3]]);
    }
    Vec3 sum = Vec3::Zero();
    for (int i = 0; i < n; ++i) sum += m[i] + q[i];
    r.limit = (n - 3.0) / (n + 5) * cage.position[v] + 4.0 / (n * (n + 5.0)) * sum;
    const double step = 2 * M_PI / n, half = M_PI / n;
    const double sigma = 1 / std::sqrt(4 + std::cos(half) * std::cos(half));
    const double lambda = (5 + std::cos(step) + std::cos(half) * std::sqrt(18 + 2 * std::cos(step))) / 16;
    for (int i = 0; i < n; ++i) {
        Vec3 t = Vec3::Zero();
        for (int j = 0; j < n; ++j)
            t += (1 - sigma * std::cos(half)) * std::cos(step * j) * m[(i + j) % n] +
                 2 * sigma * std::cos(step * j + half) * q[(i + j) % n];
        r.edgePoint.push_back(r.limit + 2.0 / 3 * lambda * (2.0 / n) * t);
        r.turn.push_back((m[(i + 1) % n] - m[(i + n - 1) % n]) / 3 + 2.0 / 3 * (q[i] - q[(i + n - 1) % n]));
    }
    return r;
}

/// Bezier points of a face of the finer cage; s runs from corner 0 to 1, t from corner 0 to 3.
std::array<Vec3, 16> bezierOf(const Quad& q, const std::vector<Ring>& ring) {
    static const int at[4] = {0, 3, 15, 12};       // places of the corners, 4 * t + s
    static const int towards[4] = {1, 4, -1, -4};  // step from corner k to corner k+1
    std::array<Vec3, 16> b;
    for (int k = 0; k < 4; ++k) {
        const Ring& r = ring[q[k]];
        const auto next = q[(k + 1) % 4], last = q[(k + 3) % 4];
        const int i = r.indexOf(next), j = r.indexOf(last);  // the face lies between i and j = i + 1
        const Ring &rn = ring[next], &rl = ring[last];
        b[at[k]] = r.limit;
        b[at[k] + towards[k]] = r.edgePoint[i];
        b[at[k] - towards[(k + 3) % 4]] = r.edgePoint[j];
        const int n = r.valence();
        Vec3 inner;
        if (n == 4) {
            inner = 0.5 * (r.edgePoint[i] + r.turn[i] / 3 + r.edgePoint[j] - r.turn[j] / 3);
        } else {
            const double c0 = std::cos(2 * M_PI / n), cn = std::cos(2 * M_PI / rn.valence()),
                         cl = std::cos(2 * M_PI / rl.valence());
            const Vec3 plus = (cn * r.limit + (3 - 2 * c0 - cn) * r.edgePoint[i] +
                               2 * c0 * rn.edgePoint[rn.indexOf(q[k])] + r.turn[i]) /
                              3;
            const Vec3 minus = (cl * r.limit + (3 - 2 * c0 - cl) * r.edgePoint[j] +
                                2 * c0 * rl.edgePoint[rl.indexOf(q[k])] - r.turn[j]) /
                               3;
            inner = 0.5 * (plus + minus);
        }
        b[at[k] + towards[k] - towards[(k + 3) % 4]] = inner;
    }
    return b;
}

/// Pole index on side k of a patch, t = 0 ... 5 from corner k to k+1; depth 0 on the border, 1 the row inside.
int sidePole(int k, int t, int depth) {
    switch (k) {
        case 0:
            return 6 * depth + t;
        case 1:
            return 6 * t + 5 - depth;
        case 2:
            return 6 * (5 - depth) + 5 - t;
        default:
            return 6 * (5 - t) + depth;
    }
}

LimitPlace sidePlace(std::int32_t face, int k, double t) {
    switch (k) {
        case 0:
            return {face, t, 0};
        case 1:
            return {face, 1, t};
        case 2:
            return {face, 1 - t, 1};
        default:
            return {face, 0, 1 - t};
    }
}

constexpr int polishSamples = 12;
/// Denser towards the corners, where the normals are hardest to meet.
double polishAt(int s) {
    return 0.5 - 0.5 * std::cos(M_PI * (s + 0.5) / polishSamples);
}

/// Moves the inner poles so that the derivative across each side is at right angles to the wanted normals.
/// @param stiffness  weight of staying where they are
void polish(Patch& patch, const std::array<std::array<Vec3, polishSamples>, 4>& normal, double stiffness) {
    Eigen::Matrix<double, 48, 48> a = Eigen::Matrix<double, 48, 48>::Zero();
    Eigen::Matrix<double, 48, 1> b = Eigen::Matrix<double, 48, 1>::Zero();
    auto unknown = [](int pole) {
        const int i = pole % 6, j = pole / 6;
        return i >= 1 && i <= 4 && j >= 1 && j <= 4 ? 3 * (4 * (j - 1) + i - 1) : -1;
    };
    for (int k = 0; k < 4; ++k)
        for (int s = 0; s < polishSamples; ++s) {
            double value[6], slope[6];
            patchBasis(polishAt(s), value, slope);
            Vec3 along = Vec3::Zero(), across = Vec3::Zero();
            for (int t = 0; t < 6; ++t) {
                along += slope[t] * patch.pole[sidePole(k, t, 0)];
                across += value[t] * (patch.pole[sidePole(k, t, 1)] - patch.pole[sidePole(k, t, 0)]);
            }
            Vec3 n = normal[k][s];
            n -= n.dot(along) / along.squaredNorm() * along;
            n.normalize();
            Eigen::Matrix<double, 48, 1> row = Eigen::Matrix<double, 48, 1>::Zero();
            for (int t = 1; t < 5; ++t) row.segment<3>(unknown(sidePole(k, t, 1))) += value[t] * n;
            a += row * row.transpose();
            b -= n.dot(across) * row;
        }
    // what the normals leave open stays near where it was; second differences of the change keep the inside fair
    for (int i = 0; i < 48; ++i) a(i, i) += stiffness;
    const Eigen::Matrix<double, 48, 1> x = a.ldlt().solve(b);
    for (int p = 0; p < 36; ++p)
        if (unknown(p) >= 0) patch.pole[p] += x.segment<3>(unknown(p));
}

/// Poles of a border curve from points and derivatives at both ends and in the middle.
std::array<Vec3, 6> hermite(const Vec3& p0, const Vec3& d0, const Vec3& p1, const Vec3& d1, const Vec3& p2,
                            const Vec3& d2) {
    // two spans of half the length: inner points a sixth of the derivative away; the middle lies between its two
    std::array<Vec3, 6> r{p0, p0 + d0 / 6, p1 - d1 / 6, p1 + d1 / 6, p2 - d2 / 6, p2};
    return r;
}

/// Patches of a cage, built step by step: from its own stencils where it is regular, fitted to the limit surface beside
/// creases, their borders shared, their normals brought together across borders.
class PatchMaker {
  public:
    explicit PatchMaker(const Cage& cage) : cage_(cage), c_(cage) {}
    PatchSet make() {
        sortFaces();
        joinBeziers();
        sampleLimit();
        shareBorders();
        fitInside();
        bringNormalsTogether();
        measureJumps();
        return std::move(r_);
    }

  private:
    static constexpr int inside = 8;  // samples across a face beside creases

    /// Which faces are regular, and which lie beside creases.
    void sortFaces();
    void joinBeziers();
    /// Normals and, at creases, points of the limit surface along the edges and inside faces.
    void sampleLimit();
    void shareBorders();
    void fitInside();
    void bringNormalsTogether();
    void leanTogether();
    void polishFace(std::size_t f);
    void measureJumps();
    Vec3 pointAt(std::int32_t i) const { return at_.row(i).transpose(); }
    Vec3 alongSide(std::int32_t i, int k) const {
        const Vec3 u = du_.row(i).transpose(), v = dv_.row(i).transpose();
        return k == 0 ? u : k == 1 ? v : k == 2 ? Vec3(-u) : Vec3(-v);
    }

    const Cage& cage_;
    const Connectivity c_;
    PatchSet r_;
    std::vector<char> creased_;                             // [vertices]
    std::vector<char> regular_, sampled_;                   // [faces]
    std::vector<std::int32_t> firstOfEdge_, firstOfFace_;   // of their samples; -1: none
    Points at_, du_, dv_;                                   // [samples] of the limit surface
    std::vector<std::array<Vec3, polishSamples>> between_;  // [edges] the normals that both sides lean to
};

void PatchMaker::sortFaces() {
    creased_.assign(cage_.position.size(), 0);
    for (const Crease& x : cage_.crease)
        if (x.sharpness > 0) creased_[x.a] = creased_[x.b] = 1;
    const std::size_t faces = cage_.face.size();
    r_.patch.resize(faces);
    regular_.assign(faces, 1);
    sampled_.assign(faces, 0);
    for (std::size_t f = 0; f < faces; ++f)
        for (auto v : cage_.face[f]) {
            regular_[f] = regular_[f] && c_.edgesOfVertex[v].size() == 4 && !creased_[v];
            sampled_[f] = sampled_[f] || creased_[v];
        }
}

void PatchMaker::joinBeziers() {
    const Finer finer = refineOnce(cage_, c_);
    const Connectivity fc(finer.cage);
    std::vector<Ring> ring(finer.cage.position.size());
    parallelFor(ring.size(), [&](std::size_t v) {
        if (!fc.facesOfVertex[v].empty()) ring[v] = ringOf(finer.cage, fc, static_cast<std::int32_t>(v));
    });
    parallelFor(cage_.face.size(), [&](std::size_t f) {
        std::array<Vec3, 49> joined;
        for (int k = 0; k < 4; ++k) {
            const auto b = bezierOf(finer.cage.face[4 * f + k], ring);
            for (int t = 0; t < 4; ++t)
                for (int s = 0; s < 4; ++s) {
                    const int i = k == 0 ? s : k == 1 ? 6 - t : k == 2 ? 6 - s : t;
                    const int j = k == 0 ? t : k == 1 ? s : k == 2 ? 6 - t : 6 - s;
                    joined[7 * j + i] = b[4 * t + s];
                }
        }
        static const int kept[6] = {0, 1, 2, 4, 5, 6};
        for (int j = 0; j < 6; ++j)
            for (int i = 0; i < 6; ++i) r_.patch[f].pole[6 * j + i] = joined[7 * kept[j] + kept[i]];
    });
}

void PatchMaker::sampleLimit() {
    const std::size_t faces = cage_.face.size();
    std::vector<LimitPlace> places;
    firstOfEdge_.assign(c_.edge.size(), -1);
    for (std::size_t f = 0; f < faces; ++f)
        for (int k = 0; k < 4; ++k) {
            const auto e = c_.edgeOfFace[f][k];
            if (c_.edge[e].face[0] != static_cast<std::int32_t>(f) ||
                (regular_[c_.edge[e].face[0]] && regular_[c_.edge[e].face[1]]))
                continue;
            firstOfEdge_[e] = static_cast<std::int32_t>(places.size());
            for (int s = 0; s < polishSamples; ++s)
                places.push_back(sidePlace(static_cast<std::int32_t>(f), k, polishAt(s)));
            for (double t : {0.0, 0.5, 1.0}) places.push_back(sidePlace(static_cast<std::int32_t>(f), k, t));
        }
    firstOfFace_.assign(faces, -1);
    for (std::size_t f = 0; f < faces; ++f) {
        if (!sampled_[f]) continue;
        firstOfFace_[f] = static_cast<std::int32_t>(places.size());
        for (int j = 0; j < inside; ++j)
            for (int i = 0; i < inside; ++i)
                places.push_back({static_cast<std::int32_t>(f), (i + 0.5) / inside, (j + 0.5) / inside});
    }
    if (!places.empty()) {
        const LimitStencils s = limitStencils(cage_, places, true);
        const Points rows = asRows(cage_.position);
        at_ = s.point * rows;
        du_ = s.du * rows;
        dv_ = s.dv * rows;
    }
}

void PatchMaker::shareBorders() {
    // borders beside creases follow the limit surface
    std::vector<std::array<Vec3, 6>> border(c_.edge.size());
    std::vector<char> followed(c_.edge.size(), 0);
    for (std::size_t e = 0; e < c_.edge.size(); ++e) {
        const auto& x = c_.edge[e];
        if (!creased_[x.a] && !creased_[x.b]) continue;
        const auto i = firstOfEdge_[e] + polishSamples;
        border[e] = hermite(pointAt(i), alongSide(i, x.side[0]), pointAt(i + 1), alongSide(i + 1, x.side[0]),
                            pointAt(i + 2), alongSide(i + 2, x.side[0]));
        followed[e] = 1;
    }
    // both neighbours take the border of the first
    for (std::size_t e = 0; e < c_.edge.size(); ++e) {
        const auto& x = c_.edge[e];
        for (int t = 0; t < 6; ++t) {
            const Vec3 p = followed[e] ? border[e][t] : r_.patch[x.face[0]].pole[sidePole(x.side[0], t, 0)];
            r_.patch[x.face[0]].pole[sidePole(x.side[0], t, 0)] = p;
            r_.patch[x.face[1]].pole[sidePole(x.side[1], 5 - t, 0)] = p;
        }
    }
    // corners exactly once
    for (std::size_t v = 0; v < cage_.position.size(); ++v) {
        if (c_.facesOfVertex[v].empty()) continue;
        bool set = false;
        Vec3 p = Vec3::Zero();
        for (auto f : c_.facesOfVertex[v])
            for (int k = 0; k < 4; ++k)
                if (cage_.face[f][k] == static_cast<std::int32_t>(v)) {
                    Vec3& pole = r_.patch[f].pole[sidePole(k, 0, 0)];
                    if (!set) {
                        p = pole;
                        set = true;
                    }
                    pole = p;
                }
    }
}

void PatchMaker::fitInside() {
    parallelFor(
        cage_.face.size(),
        [&](std::size_t f) {
            if (!sampled_[f]) return;
            Eigen::Matrix<double, inside * inside, 16> a;
            Eigen::Matrix<double, inside * inside, 3> b;
            for (int j = 0; j < inside; ++j)
                for (int i = 0; i < inside; ++i) {
                    double x[6], y[6];
                    patchBasis((i + 0.5) / inside, x, nullptr);
                    patchBasis((j + 0.5) / inside, y, nullptr);
                    const int row = inside * j + i;
                    Vec3 rest = pointAt(firstOfFace_[f] + row);
                    for (int q = 0; q < 6; ++q)
                        for (int p = 0; p < 6; ++p) {
                            const double w = x[p] * y[q];
                            if (p >= 1 && p <= 4 && q >= 1 && q <= 4)
                                a(row, 4 * (q - 1) + p - 1) = w;
                            else
                                rest -= w * r_.patch[f].pole[6 * q + p];
                        }
                    b.row(row) = rest.transpose();
                }
            const Eigen::Matrix<double, 16, 3> x = (a.transpose() * a).ldlt().solve(a.transpose() * b);
            for (int q = 1; q <= 4; ++q)
                for (int p = 1; p <= 4; ++p) r_.patch[f].pole[6 * q + p] = x.row(4 * (q - 1) + p - 1).transpose();
        },
        8);
}

void PatchMaker::leanTogether() {
    parallelFor(c_.edge.size(), [&](std::size_t e) {
        if (firstOfEdge_[e] < 0) return;
        const auto& x = c_.edge[e];
        for (int s = 0; s < polishSamples; ++s) {
            const LimitPlace p = sidePlace(x.face[0], x.side[0], polishAt(s)),
                             q = sidePlace(x.face[1], x.side[1], 1 - polishAt(s));
            const bool exact0 = regular_[x.face[0]], exact1 = regular_[x.face[1]];
            const Vec3 a = r_.patch[x.face[0]].cross(p.u, p.v).normalized(),
                       b = r_.patch[x.face[1]].cross(q.u, q.v).normalized();
            between_[e][s] = exact0 ? a : exact1 ? b : (a + b).normalized();
        }
    });
}

void PatchMaker::polishFace(std::size_t f) {
    std::array<std::array<Vec3, polishSamples>, 4> normal;
    for (int k = 0; k < 4; ++k) {
        const auto e = c_.edgeOfFace[f][k];
        const bool first = c_.edge[e].face[0] == static_cast<std::int32_t>(f);
        for (int s = 0; s < polishSamples; ++s) normal[k][s] = between_[e][first ? s : polishSamples - 1 - s];
    }
    // a side may meet its normals turned over: then it has to stay nearer to where it was
    const Patch before = r_.patch[f];
    auto turnedOver = [&] {
        for (int k = 0; k < 4; ++k)
            for (int s = 0; s <= 16; ++s) {
                const LimitPlace p = sidePlace(static_cast<std::int32_t>(f), k, s / 16.0);
                if (!(r_.patch[f].cross(p.u, p.v).dot(before.cross(p.u, p.v)) > 0)) return true;
            }
        return false;
    };
    for (double stiffness : {1e-4, 1e-3, 1e-2, 0.1}) {
        polish(r_.patch[f], normal, stiffness);
        if (!turnedOver()) return;
        r_.patch[f] = before;
    }
}

void PatchMaker::bringNormalsTogether() {
    // the normals that both sides of a border lean to, and each side towards them, in turns
    between_.resize(c_.edge.size());
    for (int round = 0; round < 32; ++round) {
        leanTogether();
        parallelFor(
            cage_.face.size(),
            [&](std::size_t f) {
                if (!regular_[f] && !sampled_[f]) polishFace(f);
            },
            8);
    }
}

void PatchMaker::measureJumps() {
    std::vector<double> sharp(c_.edge.size(), 0);
    for (const Crease& x : cage_.crease) {
        const auto e = c_.edgeBetween(x.a, x.b);
        if (e >= 0) sharp[e] = x.sharpness;
    }
    std::vector<double> jumps;
    for (std::size_t e = 0; e < c_.edge.size(); ++e) {
        if (sharp[e] > 0) continue;
        const auto& x = c_.edge[e];
        const bool isRegular = regular_[x.face[0]] && regular_[x.face[1]];
        for (int s = 0; s <= 16; ++s) {
            const double t = s / 16.0;
            const LimitPlace p = sidePlace(x.face[0], x.side[0], t), q = sidePlace(x.face[1], x.side[1], 1 - t);
            const Vec3 a = r_.patch[x.face[0]].cross(p.u, p.v).normalized(),
                       b = r_.patch[x.face[1]].cross(q.u, q.v).normalized();
            const double angle = 2 * std::asin(std::min(1.0, 0.5 * (a - b).norm())) * 180 / M_PI;
            if (isRegular) {
                r_.regularJump = std::max(r_.regularJump, angle);
            } else {
                jumps.push_back(angle);
                if (angle > r_.irregularJump) {
                    r_.irregularJump = angle;
                    r_.jumpAt = r_.patch[x.face[0]].point(p.u, p.v);
                }
            }
        }
    }
    if (!jumps.empty()) {
        const auto at95 = jumps.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(jumps.size() - 1));
        std::nth_element(jumps.begin(), at95, jumps.end());
        r_.jump95 = *at95;
    }
}

}  // namespace

PatchSet makePatches(const Cage& cage) {
    const CageReport report = inspect(cage);
    if (!report.closed || !report.manifold) {
        const CageProblem& p = report.problems.front();
        throw InputError(
            ErrorDetail{"The cage does not close a body.", {}, placeText(p.at), "every edge with two faces", p.text});
    }
    return PatchMaker(cage).make();
}

}  // namespace escultura::cage

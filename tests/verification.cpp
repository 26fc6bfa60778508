// Problems with known answers, solved: long because each is a table's row with its mesh, its loads and its source.
#include "verification.hpp"

#include <Eigen/Dense>
#include <cmath>
#include <cstdio>
#include <map>
#include <random>

#include "elastic/stress.hpp"
#include "shape/machined_solid.hpp"

namespace escultura::verification {
namespace {

using namespace elastic;
using shape::Primitive;

constexpr double pi = M_PI;

Material steel(double e = 210000, double nu = 0.3) {
    return {"steel", e, nu, 7.85e-6, 250, "typical"};
}

struct Answer {
    std::vector<Vec3> u;
    std::vector<Voigt6> gauss, nodal;
    CaseSolution solution;
};

Answer solveOne(const mesh::TetMesh& m, const Material& material, const std::vector<Constraint>& constraints,
                const NodalForces& forces, const Look& look = {}) {
    Progress progress;
    Solution s = solve(m, material, constraints, {forces}, progress);
    Answer a;
    a.gauss = gaussStress(m, material, s.cases[0].displacement);
    a.nodal = recoverStress(m, a.gauss, progress);
    if (look.judged)
        a.nodal = judgedStress(m, material, s.cases[0].displacement, a.nodal, [](const Voigt6& v) {
                      return vonMises(v);
                  }).value;
    a.u = s.cases[0].displacement;
    a.solution = std::move(s.cases[0]);
    return a;
}

void hold(std::vector<Constraint>& c, const std::vector<std::int32_t>& nodes, std::initializer_list<int> components) {
    for (auto n : nodes)
        for (int k : components) c.push_back({n, k, 0});
}

NodalForces noForces(const mesh::TetMesh& m) {
    return NodalForces(m.position.size(), Vec3::Zero());
}

std::string sizeOf(const mesh::TetMesh& m, const char* kind) {
    return std::to_string(m.tet.size()) + " elements, " + kind;
}

/// Energy norm of the difference between computed and exact stresses, over that of the exact one.
double energyNormError(const mesh::TetMesh& m, const Material& material, const std::vector<Voigt6>& gauss,
                       const std::function<Voigt6(const Vec3&)>& exact) {
    const Stiffness6 compliance = elasticity(material).inverse();
    static const double a = 0.585410196624969, b = 0.138196601125011;
    const Vec3 point[4] = {Vec3(b, b, b), Vec3(a, b, b), Vec3(b, a, b), Vec3(b, b, a)};
    double error = 0, whole = 0;
    for (std::size_t e = 0; e < m.tet.size(); ++e)
        for (int g = 0; g < 4; ++g) {
            double n[10];
            mesh::shapeFunctions(point[g], n);
            Vec3 p = Vec3::Zero();
            for (int k = 0; k < 10; ++k) p += n[k] * m.position[m.tet[e][k]];
            const Voigt6 s = exact(p), d = gauss[4 * e + g] - s;
            const double w = mesh::jacobian(m, e, point[g]).determinant() / 24;
            error += w * d.dot(compliance * d);
            whole += w * s.dot(compliance * s);
        }
    return std::sqrt(error / whole);
}

/// Solves with a polynomial displacement prescribed on the boundary and its body force; returns the energy norm error.
double polynomialError(const mesh::TetMesh& m, int degree) {
    const Material material = steel(1000, 0.3);
    // u_i = sum over monomials; coefficients fixed
    auto u = [&](const Vec3& p) -> Vec3 {
        const double x = p[0], y = p[1], z = p[2];
        Vec3 v(0.2 * x + 0.1 * y - 0.3 * z, 0.4 * y - 0.2 * x, 0.1 * z + 0.3 * x + 0.2 * y);
        if (degree >= 2) v += Vec3(0.3 * x * x + 0.2 * y * z, -0.1 * y * y + 0.4 * x * z, 0.2 * z * z - 0.3 * x * y);
        if (degree >= 3)
            v += Vec3(0.4 * x * x * x - 0.2 * y * y * z, 0.3 * y * y * y + 0.1 * x * x * z,
                      0.2 * z * z * z - 0.3 * x * y * y);
        return v;
    };
    auto gradient = [&](const Vec3& p) {
        Mat3 g;
        for (int a = 0; a < 3; ++a) {  // central differences of a cubic with Richardson: exact
            const double h = 0.1;
            const Vec3 d = h * Vec3::Unit(a);
            g.col(a) = (8 * (u(p + d) - u(p - d)) - (u(p + 2 * d) - u(p - 2 * d))) / (12 * h);
        }
        return g;
    };
    const Stiffness6 c = elasticity(material);
    auto stress = [&](const Vec3& p) -> Voigt6 {
        const Mat3 g = gradient(p);
        Voigt6 e;
        e << g(0, 0), g(1, 1), g(2, 2), g(0, 1) + g(1, 0), g(1, 2) + g(2, 1), g(2, 0) + g(0, 2);
        return c * e;
    };
    auto body = [&](const Vec3& p) -> Vec3 {  // -div sigma, sigma quadratic at most: central differences are exact
        static constexpr int at[3][3] = {{0, 3, 5}, {3, 1, 4}, {5, 4, 2}};
        Vec3 f = Vec3::Zero();
        const double h = 0.1;
        for (int a = 0; a < 3; ++a) {
            const Voigt6 d = (stress(p + h * Vec3::Unit(a)) - stress(p - h * Vec3::Unit(a))) / (2 * h);
            for (int i = 0; i < 3; ++i) f[i] -= d[at[i][a]];
        }
        return f;
    };
    std::vector<char> onBoundary(m.position.size(), 0);
    for (const auto& f : m.boundary)
        for (auto n : f) onBoundary[n] = 1;
    std::vector<Constraint> constraints;
    for (std::size_t n = 0; n < m.position.size(); ++n)
        if (onBoundary[n])
            for (int k = 0; k < 3; ++k) constraints.push_back({static_cast<std::int32_t>(n), k, u(m.position[n])[k]});
    NodalForces forces = noForces(m);
    addBodyForce(m, body, forces);
    const Answer a = solveOne(m, material, constraints, forces);
    return energyNormError(m, material, a.gauss, stress);
}

mesh::TetMesh distortedBlock(int n) {
    mesh::TetMesh straight = mappedBlock(n, n, n, [](const Vec3& p) { return p; });
    // move inner corner nodes by up to a fifth of a brick, then make the edges straight again
    std::mt19937 random(7);
    std::uniform_real_distribution<double> shift(-0.2 / n, 0.2 / n);
    std::vector<Vec3> corners(straight.position.begin(),
                              straight.position.begin() + static_cast<long>(straight.cornerCount));
    for (Vec3& p : corners) {
        const Vec3 d(shift(random), shift(random), shift(random));
        if ((p.array() > 1e-9).all() && (p.array() < 1 - 1e-9).all()) p += d;
    }
    std::vector<lattice::Tet> tets;
    for (const auto& t : straight.tet) tets.push_back({t[0], t[1], t[2], t[3]});
    return mesh::quadraticMesh(corners, tets);
}

}  // namespace

double Row::error() const {
    return absolute || expected == 0 ? std::abs(found - expected) : std::abs(found / expected - 1);
}

mesh::TetMesh mappedBlock(int nx, int ny, int nz, const std::function<Vec3(const Vec3&)>& map) {
    std::vector<Vec3> corners;
    auto id = [&](int i, int j, int k) { return static_cast<std::int32_t>(i + (nx + 1) * (j + (ny + 1) * k)); };
    for (int k = 0; k <= nz; ++k)
        for (int j = 0; j <= ny; ++j)
            for (int i = 0; i <= nx; ++i)
                corners.emplace_back(static_cast<double>(i) / nx, static_cast<double>(j) / ny,
                                     static_cast<double>(k) / nz);
    static constexpr int orders[6][3] = {{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}};
    std::vector<lattice::Tet> tets;
    for (int k = 0; k < nz; ++k)
        for (int j = 0; j < ny; ++j)
            for (int i = 0; i < nx; ++i)
                for (const auto& order : orders) {  // along the brick's diagonal (Kuhn)
                    std::array<int, 3> at{i, j, k};
                    lattice::Tet t;
                    t[0] = id(at[0], at[1], at[2]);
                    for (int s = 0; s < 3; ++s) {
                        ++at[order[s]];
                        t[s + 1] = id(at[0], at[1], at[2]);
                    }
                    if (tetVolume(corners[t[0]], corners[t[1]], corners[t[2]], corners[t[3]]) < 0)
                        std::swap(t[2], t[3]);
                    tets.push_back(t);
                }
    mesh::TetMesh m = mesh::quadraticMesh(corners, tets);
    for (Vec3& p : m.position) p = map(p);
    return m;
}

std::vector<std::int32_t> facesWhere(const mesh::TetMesh& m, const std::function<bool(const Vec3&)>& holds) {
    std::vector<std::int32_t> faces;
    for (std::size_t f = 0; f < m.boundary.size(); ++f)
        if (std::all_of(m.boundary[f].begin(), m.boundary[f].end(), [&](auto n) { return holds(m.position[n]); }))
            faces.push_back(static_cast<std::int32_t>(f));
    return faces;
}

std::vector<std::int32_t> nodesWhere(const mesh::TetMesh& m, const std::function<bool(const Vec3&)>& holds) {
    std::vector<std::int32_t> nodes;
    for (std::size_t n = 0; n < m.position.size(); ++n)
        if (holds(m.position[n])) nodes.push_back(static_cast<std::int32_t>(n));
    return nodes;
}

std::int32_t nodeAt(const mesh::TetMesh& m, const Vec3& p) {
    std::size_t best = 0;
    for (std::size_t n = 0; n < m.position.size(); ++n)
        if ((m.position[n] - p).squaredNorm() < (m.position[best] - p).squaredNorm()) best = n;
    return static_cast<std::int32_t>(best);
}

std::vector<Row> patchTest() {
    const mesh::TetMesh m = distortedBlock(3);
    return {{"patch test, distorted elements", "energy norm of the error of a constant stress", "exact",
             sizeOf(m, "distorted"), 0, polynomialError(m, 1), 1e-9, true}};
}

std::vector<Row> manufactured() {
    const mesh::TetMesh m = distortedBlock(3);
    std::vector<Row> rows{{"manufactured quadratic displacement", "energy norm of the error", "exact",
                           sizeOf(m, "distorted"), 0, polynomialError(m, 2), 1e-9, true}};
    auto regular = [](int n) { return mappedBlock(n, n, n, [](const Vec3& p) { return p; }); };
    const double coarse = polynomialError(regular(4), 3), fine = polynomialError(regular(8), 3);
    rows.push_back({"manufactured cubic displacement", "order of convergence in the energy norm", "theory: 2",
                    "8 x 8 x 8 bricks", 2, std::log2(coarse / fine), 0.1, true});
    return rows;
}

std::vector<Row> cantilever() {
    // meshed by the application's own mesher
    const double length = 100, b = 10, e = 210000, nu = 0.3, force = 100;
    shape::MachinedSolid solid(nullptr, Box3{Vec3(0, 0, 0), Vec3(length, b, b)});
    for (int a = 0; a < 3; ++a) {
        solid.addInside({Primitive::Kind::plane, Vec3::Zero(), -Vec3::Unit(a), 0});
        solid.addInside({Primitive::Kind::plane, Vec3(length, b, b), Vec3::Unit(a), 0});
    }
    Progress progress;
    const mesh::TetMesh m = mesh::meshShape(solid, {3.0}, progress);
    // The beam solution carries the shear as a parabola at both ends and leaves the section free to contract: the root
    // is held along x only, its shear is applied as traction, and two nodes keep it in place without force.
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [](const Vec3& p) { return p[0] < 1e-6; }), {0});
    hold(c, {nodeAt(m, Vec3(0, b / 2, b / 2))}, {1, 2});
    hold(c, {nodeAt(m, Vec3(0, b / 2, b))}, {1});
    NodalForces f = noForces(m);
    auto shear = [&](double sign) {
        return [=](const Vec3& p, const Vec3&) -> Vec3 {
            return sign * 1.5 * force / (b * b) * (1 - std::pow(2 * p[2] / b - 1, 2)) * Vec3::UnitZ();
        };
    };
    addTraction(m, facesWhere(m, [&](const Vec3& p) { return p[0] > length - 1e-6; }), shear(-1), f);
    addTraction(m, facesWhere(m, [&](const Vec3& p) { return p[0] < 1e-6; }), shear(1), f);
    const Answer a = solveOne(m, steel(e, nu), c, f);
    const double inertia = b * b * b * b / 12, modulus = e / (2 * (1 + nu)), kappa = 10 * (1 + nu) / (12 + 11 * nu);
    const double expected =
        force * length * length * length / (3 * e * inertia) + force * length / (kappa * modulus * b * b);
    return {{"cantilever 100 x 10 x 10, tip force", "tip deflection, mm", "Timoshenko beam with shear (Cowper 1966)",
             sizeOf(m, "own mesher, 3 mm"), expected,
             a.u[nodeAt(m, Vec3(0, b / 2, b / 2))][2] - a.u[nodeAt(m, Vec3(length, b / 2, b / 2))][2], 0.005}};
}

std::vector<Row> thickCylinder(const Look& look) {
    const double ri = 50, ro = 100, height = 10, p = 100, e = 210000, nu = 0.3;
    const mesh::TetMesh m =
        mappedBlock(12 * look.divisions, 16 * look.divisions, 1 * look.divisions, [&](const Vec3& x) {
            const double r = ri + (ro - ri) * std::pow(x[0], 1.4), t = 0.5 * pi * x[1];
            return Vec3(r * std::cos(t), r * std::sin(t), height * x[2]);
        });
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[1]) < 1e-9; }), {1});
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[0]) < 1e-9; }), {0});
    hold(c, nodesWhere(m, [&](const Vec3& x) { return x[2] < 1e-9 || x[2] > height - 1e-9; }), {2});
    NodalForces f = noForces(m);
    auto onBore = [&](const Vec3& x) { return std::hypot(x[0], x[1]) < ri + 1e-6; };
    addTraction(
        m, facesWhere(m, onBore), [&](const Vec3&, const Vec3& n) -> Vec3 { return -p * n; }, f);
    const Answer a = solveOne(m, steel(e, nu), c, f, look);
    double hoop = 0, radial = 0;
    int count = 0;
    for (auto n : nodesWhere(m, onBore)) {
        const Vec3& x = m.position[n];
        const double t = std::atan2(x[1], x[0]), s = std::sin(t), k = std::cos(t);
        const Voigt6& q = a.nodal[n];
        hoop += q[0] * s * s + q[1] * k * k - 2 * q[3] * s * k;
        radial += a.u[n][0] * k + a.u[n][1] * s;
        ++count;
    }
    const double k = p * ri * ri / (ro * ro - ri * ri);
    const double u = (1 + nu) / e * k * ((1 - 2 * nu) * ri + ro * ro / ri);
    return {
        {"thick cylinder, internal pressure", "hoop stress at the bore, MPa", "Lame; Timoshenko and Goodier, art. 28",
         sizeOf(m, "mapped"), p * (ri * ri + ro * ro) / (ro * ro - ri * ri), hoop / count, 0.015},
        {"thick cylinder, internal pressure", "radial displacement of the bore, mm", "Lame, plane strain",
         sizeOf(m, "mapped"), u, radial / count, 0.005}};
}

std::vector<Row> plateWithHole(const Look& look) {
    const double radius = 5, halfWidth = 50, length = 100, thickness = 1, tension = 100;
    const mesh::TetMesh m =
        mappedBlock(22 * look.divisions, 28 * look.divisions, 1 * look.divisions, [&](const Vec3& x) {
            const double s = x[1], t = std::pow(x[0], 2.2), angle = 0.5 * pi * s;
            const Vec3 inner(radius * std::cos(angle), radius * std::sin(angle), 0);
            const Vec3 outer = s <= 0.5 ? Vec3(length, halfWidth * 2 * s, 0) : Vec3(length * (2 - 2 * s), halfWidth, 0);
            return Vec3(inner + t * (outer - inner) + thickness * x[2] * Vec3::UnitZ());
        });
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[0]) < 1e-9; }), {0});
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[1]) < 1e-9; }), {1});
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[2]) < 1e-9; }), {2});
    NodalForces f = noForces(m);
    addTraction(
        m, facesWhere(m, [&](const Vec3& x) { return x[0] > length - 1e-6; }),
        [&](const Vec3&, const Vec3& n) -> Vec3 { return tension * n; }, f);
    const Answer a = solveOne(m, steel(), c, f, look);
    const double ratio = radius / halfWidth;
    const double net = 2 + 0.284 * (1 - ratio) - 0.6 * std::pow(1 - ratio, 2) + 1.32 * std::pow(1 - ratio, 3);
    return {{"plate with a hole, tension", "peak stress at the hole, MPa", "Peterson, chart 4.1, finite width",
             sizeOf(m, "mapped"), net * tension / (1 - ratio), a.nodal[nodeAt(m, Vec3(0, radius, 0.5 * thickness))][0],
             0.02}};
}

std::vector<Row> thickEllipticPlate(const Look& look) {
    const double scale = 1000;  // the benchmark is stated in metres
    const mesh::TetMesh m =
        mappedBlock(12 * look.divisions, 16 * look.divisions, 4 * look.divisions, [&](const Vec3& x) {
            const double t = std::pow(x[0], 1.3), angle = 0.5 * pi * x[1];
            const double a = 2 + t * 1.25, b = 1 + t * 1.75;
            return Vec3(scale * Vec3(a * std::cos(angle), b * std::sin(angle), 0.6 * x[2]));
        });
    auto outer = [&](const Vec3& x) {
        return std::abs(std::pow(x[0] / (3.25 * scale), 2) + std::pow(x[1] / (2.75 * scale), 2) - 1) < 1e-6;
    };
    std::vector<Constraint> c;
    std::map<std::pair<std::int32_t, int>, bool> held;
    auto holdOnce = [&](const std::vector<std::int32_t>& nodes, std::initializer_list<int> components) {
        for (auto n : nodes)
            for (int k : components)
                if (held.try_emplace({n, k}, true).second) c.push_back({n, k, 0});
    };
    holdOnce(nodesWhere(m, [](const Vec3& x) { return std::abs(x[1]) < 1e-6; }), {1});
    holdOnce(nodesWhere(m, [](const Vec3& x) { return std::abs(x[0]) < 1e-6; }), {0});
    holdOnce(nodesWhere(m, outer), {0, 1});
    holdOnce(nodesWhere(m, [&](const Vec3& x) { return outer(x) && std::abs(x[2] - 0.3 * scale) < 1e-6; }), {2});
    NodalForces f = noForces(m);
    addTraction(
        m, facesWhere(m, [&](const Vec3& x) { return x[2] > 0.6 * scale - 1e-6; }),
        [](const Vec3&, const Vec3& n) -> Vec3 { return -n; }, f);
    const Answer a = solveOne(m, steel(), c, f, look);
    return {{"NAFEMS LE10, thick elliptic plate", "sigma_yy at D, MPa", "NAFEMS standard benchmark LE10",
             sizeOf(m, "mapped"), -5.38, a.nodal[nodeAt(m, Vec3(2 * scale, 0, 0.6 * scale))][1], 0.02}};
}

std::vector<Row> hangingBar(const Look& look) {
    const double length = 200, b = 20, gravity = 9810;
    const Material material = steel();
    const mesh::TetMesh m = mappedBlock(2 * look.divisions, 2 * look.divisions, 12 * look.divisions,
                                        [&](const Vec3& x) { return Vec3(b * x[0], b * x[1], length * x[2]); });
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [&](const Vec3& x) { return x[2] > length - 1e-9; }), {2});
    hold(c, nodesWhere(m, [](const Vec3& x) { return x[0] < 1e-9; }), {0});
    hold(c, nodesWhere(m, [](const Vec3& x) { return x[1] < 1e-9; }), {1});
    NodalForces f = noForces(m);
    addBodyForce(
        m, [&](const Vec3&) -> Vec3 { return Vec3(0, 0, -material.density * gravity / 1000); }, f);
    const Answer a = solveOne(m, material, c, f, look);
    const double top = material.density * gravity / 1000 * length;
    return {{"hanging bar, own weight", "stress at the top, MPa", "rho g L", sizeOf(m, "mapped"), top,
             a.nodal[nodeAt(m, Vec3(b / 2, b / 2, length))][2], 0.005}};
}

std::vector<Row> spinningRing(const Look& look) {
    const double inner = 80, outer = 100, height = 6, speed = 500;  // mm, rad/s
    const Material material = steel();
    const mesh::TetMesh m =
        mappedBlock(6 * look.divisions, 20 * look.divisions, 2 * look.divisions, [&](const Vec3& x) {
            const double r = inner + (outer - inner) * x[0], t = 0.5 * pi * x[1];
            return Vec3(r * std::cos(t), r * std::sin(t), height * x[2]);
        });
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[1]) < 1e-9; }), {1});
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[0]) < 1e-9; }), {0});
    hold(c, nodesWhere(m, [](const Vec3& x) { return std::abs(x[2]) < 1e-9; }), {2});
    NodalForces f = noForces(m);
    addBodyForce(
        m, [&](const Vec3& p) -> Vec3 { return material.density / 1000 * speed * speed * Vec3(p[0], p[1], 0); }, f);
    const Answer a = solveOne(m, material, c, f, look);
    double hoop = 0;
    int count = 0;
    for (auto n : nodesWhere(m, [&](const Vec3& x) { return std::hypot(x[0], x[1]) < inner + 1e-6; })) {
        const Vec3& x = m.position[n];
        const double t = std::atan2(x[1], x[0]), s = std::sin(t), k = std::cos(t);
        const Voigt6& q = a.nodal[n];
        hoop += q[0] * s * s + q[1] * k * k - 2 * q[3] * s * k;
        ++count;
    }
    const double nu = material.poissonsRatio;
    const double expected =
        (3 + nu) / 4 * material.density / 1000 * speed * speed * (outer * outer + (1 - nu) / (3 + nu) * inner * inner);
    return {{"spinning ring", "hoop stress at the bore, MPa", "Timoshenko and Goodier, art. 32 (plane stress)",
             sizeOf(m, "mapped"), expected, hoop / count, 0.01}};
}

std::vector<Row> torsionShaft(const Look& look) {
    const double radius = 10, length = 40, torque = 1e5, e = 210000, nu = 0.3;
    // a square block mapped to a disc, so that there is no axis of degenerate elements
    const mesh::TetMesh m =
        mappedBlock(12 * look.divisions, 12 * look.divisions, 8 * look.divisions, [&](const Vec3& x) {
            const double u = 2 * x[0] - 1, v = 2 * x[1] - 1;
            return Vec3(radius * u * std::sqrt(1 - 0.5 * v * v), radius * v * std::sqrt(1 - 0.5 * u * u),
                        length * x[2]);
        });
    std::vector<Constraint> c;
    hold(c, nodesWhere(m, [](const Vec3& x) { return x[2] < 1e-9; }), {0, 1, 2});
    NodalForces f = noForces(m);
    addSpreadForce(m, facesWhere(m, [&](const Vec3& x) { return x[2] > length - 1e-9; }), Vec3::Zero(),
                   Vec3(0, 0, torque), Vec3(0, 0, length), f);
    const Answer a = solveOne(m, steel(e, nu), c, f, look);
    const double polar = pi * std::pow(radius, 4) / 2, shear = e / (2 * (1 + nu));
    const auto end = nodeAt(m, Vec3(radius, 0, length)), middle = nodeAt(m, Vec3(radius, 0, length / 2));
    return {{"circular shaft in torsion", "shear stress at the surface, MPa", "T r / J", sizeOf(m, "mapped"),
             torque * radius / polar, std::abs(a.nodal[middle][4]), 0.01},
            {"circular shaft in torsion", "twist over the length, rad", "T L / (G J)", sizeOf(m, "mapped"),
             torque * length / (shear * polar), a.u[end][1] / radius, 0.005}};
}

std::vector<Row> bearing() {
    // a bore of 24 mm meshed by the application's own mesher; force across and along
    shape::MachinedSolid solid(nullptr, Box3{Vec3(-30, -30, 0), Vec3(30, 30, 12)});
    for (int a = 0; a < 3; ++a) {
        solid.addInside({Primitive::Kind::plane, Vec3(-30, -30, 0), -Vec3::Unit(a), 0});
        solid.addInside({Primitive::Kind::plane, Vec3(30, 30, 12), Vec3::Unit(a), 0});
    }
    const int bore = solid.addCut({{Primitive::Kind::cylinder, Vec3::Zero(), Vec3::UnitZ(), 12}}).front();
    Progress progress;
    const mesh::TetMesh m = mesh::meshShape(solid, {3.5}, progress);
    std::vector<std::int32_t> faces;
    for (std::size_t f = 0; f < m.boundary.size(); ++f)
        if (m.owner[f] == bore) faces.push_back(static_cast<std::int32_t>(f));
    const Vec3 wanted(3000, 4000, 500), centre(0, 0, 6);
    NodalForces forces = noForces(m);
    addBearing(m, faces, Vec3::UnitZ(), centre, wanted, forces);
    const Resultant r = resultant(m, forces, centre);
    // distribution: moments of the pressure over the angle from the load, against p cos(theta)
    NodalForces across = noForces(m);
    addBearing(m, faces, Vec3::UnitZ(), centre, Vec3(5000, 0, 0), across);
    double sideways = 0;
    for (std::size_t n = 0; n < across.size(); ++n) sideways += std::abs(across[n][1]);
    // for p cos(theta): sum of |Fy| over Fx = integral |cos sin| / integral cos^2 = 1 / (pi/2)
    return {{"bearing load on a bore", "error of the resultant, relative", "exact", sizeOf(m, "own mesher, 3.5 mm"), 0,
             (r.force - wanted).norm() / wanted.norm(), 1e-9, true},
            {"bearing load on a bore", "error of the line of action, mm", "exact", sizeOf(m, "own mesher, 3.5 mm"), 0,
             r.moment.norm() / wanted.norm(), 1e-9, true},
            {"bearing load on a bore", "sideways share of the pressure", "p cos(theta): 2/pi",
             sizeOf(m, "own mesher, 3.5 mm"), 2 / pi, sideways / 5000, 0.02}};
}

std::vector<Row> all() {
    std::vector<Row> rows;
    for (const auto& more : {patchTest(), cantilever(), thickCylinder(), plateWithHole(), thickEllipticPlate(),
                             torsionShaft(), hangingBar(), spinningRing(), manufactured(), bearing()})
        rows.insert(rows.end(), more.begin(), more.end());
    return rows;
}

bool Peak::passes() const {
    const double size = std::abs(exact), high = judged * (exact < 0 ? -1 : 1);
    return high >= 0.97 * size && high <= 1.08 * size && std::abs(refined - exact) <= 0.03 * size;
}

std::vector<Peak> mappedPeaks() {
    std::vector<Peak> peaks;
    for (auto* f : {&thickCylinder, &plateWithHole, &thickEllipticPlate, &torsionShaft, &hangingBar, &spinningRing}) {
        const auto recovered = f({}), judged = f({1, true}), refined = f({2, true});
        for (std::size_t i = 0; i < recovered.size(); ++i)
            if (const Row& r = recovered[i]; r.quantity.find("MPa") != std::string::npos)
                peaks.push_back({r.name, r.source, r.mesh, r.expected, r.found, judged[i].found, refined[i].found});
    }
    return peaks;
}

std::string table(const std::vector<Peak>& peaks) {
    std::string text =
        "| case | source | mesh | exact, MPa | recovered | judged | refined | judged off, % | |\n| --- | --- | --- | "
        "--- | --- | --- | --- | --- | --- |\n";
    char line[640];
    for (const Peak& p : peaks) {
        std::snprintf(line, sizeof line, "| %s | %s | %s | %.4g | %.4g | %.4g | %.4g | %+.1f | %s |\n", p.name.c_str(),
                      p.source.c_str(), p.mesh.c_str(), p.exact, p.recovered, p.judged, p.refined,
                      100 * (p.judged / p.exact - 1), p.passes() ? "ok" : "FAILS");
        text += line;
    }
    return text;
}

std::string table(const std::vector<Row>& rows) {
    std::string text =
        "| case | quantity | source | mesh | expected | found | error | bar | |\n| --- | --- | --- | --- | --- | --- | "
        "--- | --- | --- |\n";
    char line[640];
    for (const Row& r : rows) {
        const bool relative = !r.absolute && r.expected != 0;
        char error[40], bar[40];
        std::snprintf(error, sizeof error, relative ? "%.3f %%" : "%.2g", relative ? 100 * r.error() : r.error());
        std::snprintf(bar, sizeof bar, relative ? "%.1f %%" : "%.0e", relative ? 100 * r.bar : r.bar);
        if (r.absolute && r.bar > 1e-3) std::snprintf(bar, sizeof bar, "%.2g", r.bar);
        std::snprintf(line, sizeof line, "| %s | %s | %s | %s | %.6g | %.6g | %s | %s | %s |\n", r.name.c_str(),
                      r.quantity.c_str(), r.source.c_str(), r.mesh.c_str(), r.expected, r.found, error, bar,
                      r.passes() ? "ok" : "FAILS");
        text += line;
    }
    return text;
}

}  // namespace escultura::verification

#include "modes_bench.hpp"

#include <cmath>
#include <cstdio>
#include <numbers>

#include "elastic/modes.hpp"
#include "verification.hpp"

namespace escultura::bench {
namespace {

using namespace elastic;
using namespace verification;

constexpr double pi = std::numbers::pi;
int tooHigh = 0;

Supports clamped(const mesh::TetMesh& m, const std::function<bool(const Vec3&)>& where) {
    Supports s;
    for (auto n : nodesWhere(m, where))
        for (int k = 0; k < 3; ++k) s.constraints.push_back({n, k});
    return s;
}

void row(const char* what, const char* source, std::size_t elements, double exact, const Mode& m, const char* unit) {
    const double counts = m.value * (1 - m.meshError - m.error);
    if (counts > exact) ++tooHigh;
    std::printf("| %s | %s | %zu | %.5g %s | %.5g (%+.2f %%) | %.5g (%+.2f %%) |\n", what, source, elements, exact,
                unit, m.value, 100 * (m.value / exact - 1), counts, 100 * (counts / exact - 1));
    std::fflush(stdout);
}

Material steel(double poisson) {
    return {"steel", 210000, poisson, 7.85e-6, 250, "typical"};
}

/// Bars of 200 x 10 x 8 mm clamped at one end. @param n  elements along it
void bars(int n, Progress& progress) {
    const auto mesh = mappedBlock(n, std::max(1, n / 12), std::max(1, n / 12),
                                  [](const Vec3& p) { return Vec3(200 * p[0], 10 * p[1], 8 * p[2]); });
    const Material m = steel(0);
    const Supports s = clamped(mesh, [](const Vec3& p) { return p[0] < 1e-9; });
    ModeOptions o;
    o.count = 2;
    const auto modes = naturalModes(mesh, m, s, o, progress);
    // Timoshenko's beam: the slender value less shear and rotary inertia, to first order (Weaver and others 1990)
    auto bending = [&](double depth) {
        const double slender = 1.875104 * 1.875104 / (2 * pi * 200 * 200) *
                               std::sqrt(1000 * m.youngsModulus * depth * depth / 12 / m.density);
        return slender;
    };
    row("bar, bending in its weak plane", "beam theory, without shear", mesh.tet.size(), bending(8), modes[0], "Hz");
    row("bar, bending in its strong plane", "beam theory, without shear", mesh.tet.size(), bending(10), modes[1], "Hz");
    std::vector<Vec3> u(mesh.position.size());  // even pressure of 1 MPa: exact, for there is no lateral strain
    for (std::size_t k = 0; k < u.size(); ++k) u[k] = Vec3(-mesh.position[k][0] / m.youngsModulus, 0, 0);
    const auto buckling = bucklingModes(mesh, m, s, {&u}, o, progress)[0];
    auto euler = [&](double depth) { return pi * pi * m.youngsModulus * depth * depth / 12 / (4 * 200 * 200); };
    row("column, weak plane", "Euler", mesh.tet.size(), euler(8), buckling[0], "");
    row("column, strong plane", "Euler", mesh.tet.size(), euler(10), buckling[1], "");
}

/// A square plate of 200 x 200 x 4 mm, clamped all around. @param n  elements along its sides
void plate(int n, Progress& progress) {
    const auto mesh = mappedBlock(n, n, 1, [](const Vec3& p) { return Vec3(200 * p[0], 200 * p[1], 4 * p[2]); });
    const Material m = steel(0.3);
    const Supports s = clamped(mesh, [](const Vec3& p) {
        return std::min({p[0], p[1], 200 - p[0], 200 - p[1]}) < 1e-9;
    });
    ModeOptions o;
    o.count = 1;
    const double stiffness = m.youngsModulus * 64 / (12 * (1 - 0.09));
    const double exact = 35.985 / (200 * 200 * 2 * pi) * std::sqrt(1000 * stiffness / (m.density * 4));
    row("square plate, clamped", "Leissa 1969, thin plates", mesh.tet.size(), exact,
        naturalModes(mesh, m, s, o, progress)[0], "Hz");
}

}  // namespace

int runModes() {
    Progress progress;
    std::printf("| case | exact by | tetrahedra | exact | found | counts |\n| --- | --- | --- | --- | --- | --- |\n");
    for (int n : {6, 12, 24, 48}) bars(n, progress);
    for (int n : {6, 12, 24}) plate(n, progress);
    return tooHigh;
}

}  // namespace escultura::bench

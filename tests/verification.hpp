/// @file tests/verification.hpp
/// Verification cases with known answers, shared by the benchmark program and the tests.

#pragma once
#include <functional>
#include <string>
#include <vector>

#include "elastic/solve.hpp"

namespace escultura::verification {

/// One checked quantity.
struct Row {
    std::string name, quantity, source, mesh;
    double expected = 0, found = 0;
    double bar = 0;         ///< largest allowed error
    bool absolute = false;  ///< error is |found - expected|, not relative
    double error() const;
    bool passes() const { return error() <= bar; }
};

/// A block of nx * ny * nz bricks, six tetrahedra each, mapped from the unit cube to space (mid-side nodes too).
mesh::TetMesh mappedBlock(int nx, int ny, int nz, const std::function<Vec3(const Vec3& unit)>& map);
/// Boundary faces whose nodes all satisfy a condition on the position.
std::vector<std::int32_t> facesWhere(const mesh::TetMesh& mesh, const std::function<bool(const Vec3&)>& holds);
std::vector<std::int32_t> nodesWhere(const mesh::TetMesh& mesh, const std::function<bool(const Vec3&)>& holds);
/// The node nearest to a point.
std::int32_t nodeAt(const mesh::TetMesh& mesh, const Vec3& p);

/// How a case is looked at: with the table's mesh or a finer one, and which nodal stress is read.
struct Look {
    int divisions = 1;    ///< bricks of the mapped mesh are divided by this
    bool judged = false;  ///< the judged stress instead of the recovered one
};

std::vector<Row> patchTest();
std::vector<Row> cantilever();
std::vector<Row> thickCylinder(const Look& look = {});
std::vector<Row> plateWithHole(const Look& look = {});
std::vector<Row> thickEllipticPlate(const Look& look = {});
std::vector<Row> hangingBar(const Look& look = {});
std::vector<Row> spinningRing(const Look& look = {});
std::vector<Row> torsionShaft(const Look& look = {});
std::vector<Row> manufactured();
std::vector<Row> bearing();

/// All of them, in the order of the table.
std::vector<Row> all();
/// A Markdown table.
std::string table(const std::vector<Row>& rows);

/// One stress with a known answer by the estimates side by side, MPa.
struct Peak {
    std::string name, source, mesh;
    double exact = 0;
    double recovered = 0, judged = 0;  ///< on the mesh of the row
    double refined = 0;                ///< judged on a finer mesh, or by the test of the hotspot
    /// The judged stress lies from 3 % below to 8 % above the exact one, the refined one within 3 %.
    bool passes() const;
};
/// The stresses of the table's mapped meshes, refined with half the size.
std::vector<Peak> mappedPeaks();
std::string table(const std::vector<Peak>& peaks);

}  // namespace escultura::verification

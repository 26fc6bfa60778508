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

std::vector<Row> patchTest();
std::vector<Row> cantilever();
std::vector<Row> thickCylinder();
std::vector<Row> plateWithHole();
std::vector<Row> thickEllipticPlate();
std::vector<Row> hangingBar();
std::vector<Row> spinningRing();
std::vector<Row> torsionShaft();
std::vector<Row> manufactured();
std::vector<Row> bearing();

/// All of them, in the order of the table.
std::vector<Row> all();
/// A Markdown table.
std::string table(const std::vector<Row>& rows);

}  // namespace escultura::verification

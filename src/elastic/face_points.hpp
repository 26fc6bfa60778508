/// @file elastic/face_points.hpp
/// Integration over quadratic boundary faces.

#pragma once
#include "mesh/tet_mesh.hpp"

namespace escultura::elastic {

struct FacePoint {
    double weight;  ///< mm2
    Vec3 point, normal;
    double n[6];  ///< shape functions of the face's nodes
};

/// Seven-point rule of degree 5 on the triangle (Dunavant 1985). visit(FacePoint, Triangle6)
template <class Visit>
void forFacePoints(const mesh::TetMesh& mesh, std::int32_t face, const Visit& visit) {
    static const double a1 = 0.470142064105115, b1 = 0.059715871789770, a2 = 0.101286507323456, b2 = 0.797426985353087;
    static const double rule[7][4] = {{1 / 3., 1 / 3., 1 / 3., 0.225}, {a1, a1, b1, 0.132394152788506},
                                      {a1, b1, a1, 0.132394152788506}, {b1, a1, a1, 0.132394152788506},
                                      {a2, a2, b2, 0.125939180544827}, {a2, b2, a2, 0.125939180544827},
                                      {b2, a2, a2, 0.125939180544827}};
    const auto& f = mesh.boundary[face];
    for (const auto& r : rule) {
        const double* l = r;
        FacePoint q;
        for (int k = 0; k < 3; ++k) {
            q.n[k] = l[k] * (2 * l[k] - 1);
            q.n[3 + k] = 4 * l[k] * l[(k + 1) % 3];
        }
        // derivatives with respect to l1 and l2, l0 = 1 - l1 - l2
        const double d1[6] = {-(4 * l[0] - 1), 4 * l[1] - 1, 0, 4 * (l[0] - l[1]), 4 * l[2], -4 * l[2]};
        const double d2[6] = {-(4 * l[0] - 1), 0, 4 * l[2] - 1, -4 * l[1], 4 * l[1], 4 * (l[0] - l[2])};
        Vec3 t1 = Vec3::Zero(), t2 = Vec3::Zero();
        q.point = Vec3::Zero();
        for (int k = 0; k < 6; ++k) {
            q.point += q.n[k] * mesh.position[f[k]];
            t1 += d1[k] * mesh.position[f[k]];
            t2 += d2[k] * mesh.position[f[k]];
        }
        const Vec3 across = t1.cross(t2);
        q.normal = across.normalized();
        q.weight = 0.5 * r[3] * across.norm();
        visit(q, f);
    }
}

}  // namespace escultura::elastic

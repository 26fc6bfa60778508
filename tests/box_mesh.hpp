/// @file box_mesh.hpp
/// A closed box of twelve triangles, two a side; the owner of each is its side: 0 and 1 across x, 2 and 3 across y, 4
/// and 5 across z.

#pragma once
#include "surface/tri_mesh.hpp"

namespace escultura::made_up {

/// @param low, high  corners, mm
inline surface::TriMesh boxMesh(const Vec3& low, const Vec3& high) {
    surface::TriMesh m;
    for (int i = 0; i < 8; ++i)
        m.position.push_back({i & 1 ? high.x() : low.x(), i & 2 ? high.y() : low.y(), i & 4 ? high.z() : low.z()});
    m.triangle = {{0, 4, 2}, {2, 4, 6}, {1, 3, 5}, {3, 7, 5}, {0, 1, 4}, {1, 5, 4},
                  {2, 6, 3}, {3, 6, 7}, {0, 2, 1}, {1, 2, 3}, {4, 5, 6}, {5, 7, 6}};
    m.owner = {0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5};
    return m;
}

}  // namespace escultura::made_up

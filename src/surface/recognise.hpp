/// @file surface/recognise.hpp
/// Planes and cylinders on a triangulated body, from a picked triangle or three picked points.

#pragma once
#include <optional>

#include "surface/tri_mesh.hpp"

namespace escultura::surface {

/// A plane or a cylinder fitted to a connected part of a surface.
struct FittedFace {
    enum class Kind {
        plane,
        bore,  ///< cylinder with the material outside
        pin,   ///< cylinder with the material inside
    } kind = Kind::plane;
    Vec3 point = Vec3::Zero();    ///< middle of the face's area; on the axis of a cylinder
    Vec3 axis = Vec3::UnitZ();    ///< unit normal out of the material, or unit axis
    double radius = 0;            ///< cylinder, mm
    double low = 0, high = 0;     ///< extent along the axis from `point`, mm
    double reach = 0;             ///< plane: radius of the circle of the same area, mm
    double rms = 0, largest = 0;  ///< distance of the vertices from the fit, mm
    std::vector<std::int32_t> triangles;
};

/// Recognises the face that a triangle belongs to: hypotheses from pairs of triangles (RANSAC, Fischler and Bolles
/// 1981, with a fixed seed), the one that explains the largest connected area wins, then least squares (Gauss-Newton).
/// @param roughness  how far a surface that was measured or computed lies off its faces, mm: of such a one only what is
///                   within 60 times that of the seed is looked at; 0: the faces of a designed body
/// @return nothing when neither a plane nor a cylinder of at least 20 degrees (rough ones: 100) fits
std::optional<FittedFace> recogniseFace(const TriMesh& mesh, std::int32_t seed, double roughness = 0);

/// The closed borders of some triangles, laid onto a plane: corners without those that lie on a straight line, mm.
std::vector<std::vector<Vec3>> bordersOf(const TriMesh& mesh, const std::vector<std::int32_t>& triangles,
                                         const Vec3& point, const Vec3& normal);

/// Circle through three points: centre, unit axis, radius. Nothing when they lie on a line.
struct Circle {
    Vec3 centre = Vec3::Zero(), axis = Vec3::UnitZ();
    double radius = 0;
};
std::optional<Circle> circleThrough(const Vec3& a, const Vec3& b, const Vec3& c);

}  // namespace escultura::surface

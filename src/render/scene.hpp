/// @file render/scene.hpp
/// What is drawn: plain data, made from results, independent of the drawing library.

#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "base/geometry.hpp"
#include "render/colour_map.hpp"

namespace escultura::render {

/// Triangles with a colour at each vertex.
struct ColouredMesh {
    std::vector<Vec3> position;
    std::vector<Vec3> normal;  ///< [vertices]; empty: computed, sharp above 30 degrees
    std::vector<Triangle> triangle;
    std::vector<Colour> colour;        ///< [vertices] or one for all
    std::vector<double> value;         ///< [vertices] shown quantity; empty when there is none
    std::vector<std::int32_t> source;  ///< [vertices] node of the analysis mesh or vertex of the surface; may be empty
    double opacity = 1;
    bool isWhole = false;  ///< not cut by the section
    bool flat = false;     ///< shade each triangle on its own (cells)
};

struct Lines {
    std::vector<Vec3> position;  ///< pairs
    Colour colour;
    double width = 1;
};

struct Arrow {
    Vec3 tip = Vec3::Zero(), direction = Vec3::UnitX();  ///< unit vector
    double length = 20;
    Colour colour;
};

/// A word pinned to a place.
struct Label {
    enum class Role { load, support, maximum, minimum, finding, reading, handle } role = Role::load;
    Vec3 position = Vec3::Zero();
    std::string text;
    std::string strong;     ///< part in bold, before the text
    bool isHidden = false;  ///< something lies before its place, as it is seen now: drawn faded and dashed
};

/// Colour scale with the share of the part's volume beside each colour.
struct Legend {
    std::string title, unit;
    ColourScale scale;
    double dataLow = 0, dataHigh = 0;
    std::vector<double> share;  ///< equal bins over the scale's range, share of volume or area
    std::string shareOf = "volume";
    bool shown = false;
};

struct Scene {
    std::vector<ColouredMesh> meshes;  ///< the first is the one that is picked
    std::vector<Lines> lines;
    std::vector<Arrow> arrows;
    std::vector<Label> labels;
    Legend legend;
    /// Only what lies on the positive side of a plane, between two, or in a box along the axes is drawn and picked.
    struct Section {
        enum class Kind { plane, slab, box };
        struct Plane {
            Vec3 point, normal;  ///< what lies where the normal points is kept
        };
        bool on = false;
        Kind kind = Kind::plane;
        Vec3 point = Vec3::Zero(), normal = Vec3::UnitX();  ///< plane, and the slab's first
        double depth = 0;                                   ///< slab: to its second plane, along the normal, mm
        Vec3 low = Vec3::Zero(), high = Vec3::Zero();       ///< box
        std::vector<Plane> planes() const;
        bool operator==(const Section&) const = default;
    } section;
    std::string caption, captionDetail;  ///< what is shown, for the view's title
    Box3 bounds;
};

}  // namespace escultura::render

/// @file duty/figure.hpp
/// The figures of a load or a support: one description each, from which the part file is read and written, the schema
/// made, the form of the window laid out and the columns of load tables named.

#pragma once
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "base/geometry.hpp"
#include "base/quantity.hpp"
#include "duty/part.hpp"

namespace escultura::duty {

/// @tparam Owner  Load or Support
template <class Owner>
struct Figure {
    /// What a value must be, beyond a number of the right dimension.
    enum class Rule {
        any,
        notZero,
        direction,    ///< a vector that is not zero; kept as a unit vector
        notNegative,  ///< zero or more
    };
    const char* key;    ///< of the part file
    const char* label;  ///< on the screen
    /// Where it is kept. An optional one may be missing from the file.
    std::variant<Vec3 Owner::*, double Owner::*, bool Owner::*, std::optional<Vec3> Owner::*> at;
    Dimension dimension = dimension::none;
    /// Unit of bare numbers in the part file.
    std::string (*fileUnit)(const Units&) = withoutUnit;
    const char* shownUnit = "";  ///< of the form, as parseQuantity() reads it
    bool required = true;        ///< else it may be missing, and is written only when it says something
    Rule rule = Rule::any;
    /// A vector that may be given as 'magnitude' and 'direction' instead.
    bool orMagnitude = false;
    /// Heading in load tables, with x, y, z added for vectors; empty: not there.
    const char* column = "";

    bool isVector() const { return at.index() == 0 || at.index() == 3; }
    bool isYes() const { return at.index() == 2; }
};

/// Value of a figure that is a number or a vector, in internal units; numbers in the first component. A missing
/// optional one is zero.
template <class Owner>
Vec3 valueOf(const Figure<Owner>& f, const Owner& o) {
    if (const auto* v = std::get_if<Vec3 Owner::*>(&f.at)) return o.*(*v);
    if (const auto* v = std::get_if<double Owner::*>(&f.at)) return Vec3(o.*(*v), 0, 0);
    if (const auto* v = std::get_if<std::optional<Vec3> Owner::*>(&f.at)) return (o.*(*v)).value_or(Vec3::Zero());
    return Vec3::Zero();
}
template <class Owner>
void setValue(const Figure<Owner>& f, Owner& o, const Vec3& value) {
    if (const auto* v = std::get_if<Vec3 Owner::*>(&f.at)) o.*(*v) = value;
    if (const auto* v = std::get_if<double Owner::*>(&f.at)) o.*(*v) = value[0];
    if (const auto* v = std::get_if<std::optional<Vec3> Owner::*>(&f.at)) o.*(*v) = value;
}

}  // namespace escultura::duty

/// @file duty/part_edit.hpp
/// Changes to a part file's text: what the window edits is what a text editor would. Everything else in the file stays
/// as it is.

#pragma once
#include <string>

#include "duty/part.hpp"

namespace escultura::duty {

/// Adds an interface, or replaces the one of that name (references to it follow a new name).
/// @param replaced  empty: add
std::string withInterface(const Part& part, const std::string& replaced, const Interface& interface);
/// How an interface is repeated.
struct Repetition {
    enum class Kind { about, mirrored } kind = Kind::about;
    Vec3 point = Vec3::Zero();  ///< on the axis, or on the plane, mm
    Vec3 axis = Vec3::UnitZ();  ///< of the turns, or across the plane; unit vector
    int count = 4;              ///< about: places on the full circle, the first one included
    bool heldAlike = true;      ///< what supports the first one supports the copies too
};
/// Adds copies of an interface, with its name and the next free numbers.
/// @throws InputError for a count below 2 or above 100, or when a copy would fall on the interface itself
std::string withCopies(const Part& part, const std::string& name, const Repetition& how);
/// @throws InputError when a support or a load acts on it
std::string withoutInterface(const Part& part, const std::string& name);
/// Adds a density field.
std::string withField(const Part& part, const NamedField& field);
/// Sets or removes (null) the body of the design before the optimisation.
std::string withOriginal(const Part& part, const BodySource* body);
/// Sets or removes the body that the material stays inside.
std::string withDesignBody(const Part& part, const BodySource* body);
std::string withKeepOutBody(const Part& part, const std::string& name, const BodySource& body);

/// Replaces how a field is made from the duty. @throws InputError when it cannot be read back
std::string withOptimisation(const Part& part, const Optimisation& optimisation);

/// A part file for a field alone: no interfaces, loads or requirements yet, the material of a common casting and
/// forging alloy, which the text says.
std::string newPartText(const std::string& name, const exchange::FieldSource& field, const std::string& partPath);
/// The same for a body alone, which is the design space and the design before the optimisation; its field is made here.
/// @param neighbours  bodies beside it that stay clear, by their names
std::string newPartText(const std::string& name, const BodySource& body, const std::string& partPath,
                        const std::vector<std::pair<std::string, BodySource>>& neighbours = {});

}  // namespace escultura::duty

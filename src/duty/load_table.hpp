/// @file duty/load_table.hpp
/// Loads from a table of text (CSV). Columns are found by their headings, in any order:
///
/// | heading | meaning |
/// | --- | --- |
/// | case | name of the load case |
/// | kind | force, bearing or torque; missing: force |
/// | interfaces | names, with + between |
/// | face | bore, side, start or end |
/// | fx, fy, fz | force; the unit in brackets: `fx [kN]`; else the part file's |
/// | mx, my, mz | moment: `mx [N*m]` |
/// | torque | about the interface's axis |
/// | share | total or each; missing: total |
/// | frame | a frame of the part; missing: global |
///
/// Fields are separated by comma, semicolon or tab; with semicolons or tabs a decimal comma is understood.

#pragma once
#include <string>
#include <vector>

#include "duty/part.hpp"

namespace escultura::duty {

/// What importing would change, one line each.
struct LoadTableChange {
    enum class Kind { newCase, changed, unchanged } kind = Kind::changed;
    std::string loadCase;
    std::vector<std::string> before, after;  ///< loads in words
};

struct LoadTable {
    std::vector<LoadCase> cases;  ///< those of the table, in its order
    std::vector<LoadTableChange> changes;
    std::vector<std::string> untouched;  ///< cases of the part that the table does not name
};

/// @param name  of the file, for errors
/// @throws InputError naming the line, the column, what was expected and what was found
LoadTable readLoadTable(const std::string& text, const std::string& name, const Part& part);

/// The part file's text with the table's cases: their forces, bearing loads and torques are replaced, other loads stay.
std::string withLoadTable(const Part& part, const LoadTable& table);

}  // namespace escultura::duty

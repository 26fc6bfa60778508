/// @file store/stored_results.hpp
/// Results as binary data in a table of a database. Internal to this folder.

#pragma once
#include <set>

#include "project/project.hpp"
#include "store/database.hpp"

namespace escultura::store {
using namespace project;

/// Kind of a density field's row; earlier ones had no seal.
inline constexpr const char* sealedField = "density field 2";
std::vector<char> fieldBytes(const field::DensityField& field);
/// @throws InputError when the data are damaged
field::DensityField fieldFromBytes(const std::string& kind, const char* data, std::size_t size);

inline constexpr const char* resultTable =
    "CREATE TABLE IF NOT EXISTS result(key TEXT PRIMARY KEY, kind TEXT, data BLOB);";
/// Kinds and keys of all results that are stored.
std::set<std::string> storedNames(const Results& results);
/// Adds the results that are not in the table yet: surfaces, cages, solids, checks, findings and tests.
/// @param stored  kinds and keys in the table; the new ones are added. Tests of hotspots grow: they are replaced
void storeResults(Database& db, const Results& results, std::set<std::string>& stored);
/// Reads the table. @throws InputError when it is damaged
void restoreResults(Database& db, Results& results);

}  // namespace escultura::store

/// @file report/release_files.hpp
/// Contents of a release's files, for its writer and its verification. Internal to this folder.

#pragma once
#include <string>
#include <vector>

#include "exchange/writers.hpp"
#include "project/project.hpp"

namespace escultura::report {

/// Nodal arrays of results.vtu; they refer to the check.
std::vector<exchange::NodalArray> resultArrays(const duty::Part& part, const stages::CheckResult& check);

/// The report with its contents for a page that has no page numbers.
std::string withoutPages(std::string html);

}  // namespace escultura::report

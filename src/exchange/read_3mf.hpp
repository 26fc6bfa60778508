/// @file exchange/read_3mf.hpp
/// Bodies from 3MF packages (3MF core specification 1.3).

#pragma once
#include "exchange/body_files.hpp"

namespace escultura::exchange {

/// Every item of the package's build list as a body, in mm by the unit that the file states, each with its transforms
/// and those of its components. Objects that only support a print are left out.
/// @throws InputError naming the object and line; also for extensions that the file says a reader must know
std::vector<NamedBody> read3mf(const std::string& path);

}  // namespace escultura::exchange

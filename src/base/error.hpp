/// @file base/error.hpp
/// Errors that name the file, the place in it, what was expected and what was found.

#pragma once
#include <stdexcept>
#include <string>

namespace escultura {

/// What went wrong, in parts that a dialog or a terminal can lay out. Empty parts are left out of the message.
struct ErrorDetail {
    std::string problem;   ///< one sentence
    std::string file;      ///< path as the user gave it
    std::string place;     ///< line, key path, array name ...
    std::string expected;  ///< what would have been right
    std::string found;     ///< what was there
};

/// Joins the parts of a detail to one readable message.
std::string describe(const ErrorDetail& detail);

/// Base of all errors that the core throws.
class Error : public std::runtime_error {
  public:
    explicit Error(ErrorDetail detail) : std::runtime_error(describe(detail)), detail_(std::move(detail)) {}
    explicit Error(const std::string& problem) : Error(ErrorDetail{problem, {}, {}, {}, {}}) {}
    const ErrorDetail& detail() const { return detail_; }

  private:
    ErrorDetail detail_;
};

/// The input cannot be used as it is (exit code 3 of the command line).
class InputError : public Error {
    using Error::Error;
};

/// The model is well formed, but the solution could not be computed (exit code 4).
class SolveError : public Error {
    using Error::Error;
};

/// The user cancelled; no result was changed.
class Cancelled : public Error {
  public:
    Cancelled() : Error("cancelled") {}
};

}  // namespace escultura

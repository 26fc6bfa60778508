/// @file base/digest.hpp
/// SHA-256 of contents, and keys made of them: the identity of every cached result.

#pragma once
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace escultura {

/// Collects typed values into one SHA-256. Strings and arrays are preceded by their length, so that neighbours cannot
/// run into each other.
class Digest {
  public:
    Digest();
    ~Digest();
    Digest(const Digest&) = delete;
    Digest& operator=(const Digest&) = delete;

    Digest& add(std::string_view text);
    Digest& add(double value);
    Digest& add(std::int64_t value);
    Digest& addBytes(const void* data, std::size_t bytes);
    template <class T>
    Digest& add(std::span<const T> values) {
        add(static_cast<std::int64_t>(values.size()));
        return addBytes(values.data(), values.size_bytes());
    }
    /// 64 lower-case hexadecimal digits; the object must not be used afterwards.
    std::string hex();

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

/// SHA-256 of a text's bytes.
std::string sha256(const std::string& text);
/// SHA-256 of a file's bytes. @throws InputError when it cannot be read
std::string sha256OfFile(const std::string& path);

/// What a file holds, as part of a key: its SHA-256, or why there is none ("missing"). Computed again when the file's
/// time, size or identity has changed, so it is cheap to ask often. Thread-safe; never throws.
std::string fileState(const std::string& path);

}  // namespace escultura

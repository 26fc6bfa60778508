/// @file store/file_lock.hpp
/// Who holds a file, told between programs. Internal to this folder.

#pragma once
#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <string>

namespace escultura::store {

inline std::string lockPath(const std::string& path) {
    return path + ".lock";
}

/// An exclusive lock that ends with its process; ::close() gives it back. -1: held by another
inline int lock(const std::string& path) {
    const int file = ::open(lockPath(path).c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
    if (file < 0) return -1;
    if (::flock(file, LOCK_EX | LOCK_NB) != 0) {
        ::close(file);
        return -1;
    }
    return file;
}

}  // namespace escultura::store

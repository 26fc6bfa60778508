// A library to be preloaded: it counts every call that changes something under a folder, and kills the process at the
// call of a given number, a write after half of its bytes. By the environment:
//   KILL_UNDER  the folder's absolute path
//   KILL_LOG    file that each counted call is written to, a line each: its name, a blank, the path
//   KILL_AT     number of the call to be killed at, from 1; 0 or not there: none

#include <dlfcn.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

#include <atomic>
#include <climits>
#include <cstdarg>
#include <cstdio>
#include <cstdlib>
#include <cstring>

namespace {

std::atomic<long> calls{0};

template <class F>
F real(const char* name) {
    return reinterpret_cast<F>(dlsym(RTLD_NEXT, name));
}

bool isUnder(const char* path) {
    static const char* const folder = std::getenv("KILL_UNDER");
    return folder && path && std::strncmp(path, folder, std::strlen(folder)) == 0;
}

bool isUnder(int file, char (&path)[PATH_MAX]) {
    char link[64];
    std::snprintf(link, sizeof link, "/proc/self/fd/%d", file);
    const ssize_t n = readlink(link, path, PATH_MAX - 1);
    path[n > 0 ? n : 0] = 0;
    return n > 0 && isUnder(path);
}

/// Counts a call. @return whether the process is to end in it
bool isLast(const char* call, const char* path) {
    static const int log = [] {
        const char* to = std::getenv("KILL_LOG");
        return to ? static_cast<int>(syscall(SYS_openat, AT_FDCWD, to, O_WRONLY | O_CREAT | O_APPEND, 0600)) : -1;
    }();
    static const long last = [] {
        const char* at = std::getenv("KILL_AT");
        return at ? std::atol(at) : 0;
    }();
    if (log >= 0) {
        char line[PATH_MAX + 64];
        const int n = std::snprintf(line, sizeof line, "%s %s\n", call, path);
        if (n > 0) syscall(SYS_write, log, line, static_cast<std::size_t>(n));
    }
    return ++calls == last;
}

[[noreturn]] void end() {
    kill(getpid(), SIGKILL);
    while (true) pause();
}

void byPath(const char* call, const char* path) {
    if (isUnder(path) && isLast(call, path)) end();
}

void byFile(const char* call, int file) {
    char path[PATH_MAX];
    if (isUnder(file, path) && isLast(call, path)) end();
}

int opened(const char* call, int folder, const char* path, int flags, unsigned mode) {
    if (flags & (O_CREAT | O_TRUNC)) byPath(call, path);
    return static_cast<int>(syscall(SYS_openat, folder, path, flags, mode));
}

unsigned modeOf(int flags, va_list more) {
    return flags & (O_CREAT | O_TMPFILE) ? va_arg(more, unsigned) : 0;
}

}  // namespace

extern "C" {

ssize_t write(int file, const void* bytes, size_t count) {
    char path[PATH_MAX];
    if (isUnder(file, path) && isLast("write", path)) {
        syscall(SYS_write, file, bytes, count / 2);
        end();
    }
    return syscall(SYS_write, file, bytes, count);
}
ssize_t writev(int file, const iovec* parts, int count) {
    char path[PATH_MAX];
    if (isUnder(file, path) && isLast("write", path)) {
        if (count > 0) syscall(SYS_write, file, parts[0].iov_base, parts[0].iov_len);
        end();
    }
    return syscall(SYS_writev, file, parts, count);
}
ssize_t pwrite(int file, const void* bytes, size_t count, off_t at) {
    char path[PATH_MAX];
    if (isUnder(file, path) && isLast("write", path)) {
        syscall(SYS_pwrite64, file, bytes, count / 2, at);
        end();
    }
    return syscall(SYS_pwrite64, file, bytes, count, at);
}
ssize_t pwrite64(int file, const void* bytes, size_t count, off64_t at) {
    return pwrite(file, bytes, count, at);
}
int open(const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const unsigned mode = modeOf(flags, more);
    va_end(more);
    return opened("open", AT_FDCWD, path, flags, mode);
}
int open64(const char* path, int flags, ...) {
    va_list more;
    va_start(more, flags);
    const unsigned mode = modeOf(flags, more);
    va_end(more);
    return opened("open", AT_FDCWD, path, flags, mode);
}
FILE* fopen(const char* path, const char* how) {
    if (std::strpbrk(how, "wa+")) byPath("open", path);
    return real<FILE* (*)(const char*, const char*)>("fopen")(path, how);
}
FILE* fopen64(const char* path, const char* how) {
    if (std::strpbrk(how, "wa+")) byPath("open", path);
    return real<FILE* (*)(const char*, const char*)>("fopen64")(path, how);
}
int rename(const char* from, const char* to) {
    byPath("rename", to);
    return static_cast<int>(syscall(SYS_rename, from, to));
}
int renameat2(int a, const char* from, int b, const char* to, unsigned flags) {
    byPath("rename", to);
    return static_cast<int>(syscall(SYS_renameat2, a, from, b, to, flags));
}
int link(const char* from, const char* to) {
    byPath("link", to);
    return static_cast<int>(syscall(SYS_link, from, to));
}
int unlink(const char* path) {
    byPath("remove", path);
    return static_cast<int>(syscall(SYS_unlink, path));
}
int unlinkat(int folder, const char* path, int flags) {
    // what a walk through a tree removes is named by its folder
    char whole[PATH_MAX];
    if (folder == AT_FDCWD ? isUnder(path) : isUnder(folder, whole))
        if (isLast("remove", path)) end();
    return static_cast<int>(syscall(SYS_unlinkat, folder, path, flags));
}
int rmdir(const char* path) {
    byPath("remove", path);
    return static_cast<int>(syscall(SYS_rmdir, path));
}
int remove(const char* path) {
    byPath("remove", path);
    return real<int (*)(const char*)>("remove")(path);
}
int mkdir(const char* path, mode_t mode) {
    byPath("mkdir", path);
    return static_cast<int>(syscall(SYS_mkdir, path, mode));
}
int fsync(int file) {
    byFile("flush", file);
    return static_cast<int>(syscall(SYS_fsync, file));
}
int fdatasync(int file) {
    byFile("flush", file);
    return static_cast<int>(syscall(SYS_fdatasync, file));
}
int ftruncate(int file, off_t length) {
    byFile("truncate", file);
    return static_cast<int>(syscall(SYS_ftruncate, file, length));
}
int ftruncate64(int file, off64_t length) {
    byFile("truncate", file);
    return static_cast<int>(syscall(SYS_ftruncate, file, length));
}
}

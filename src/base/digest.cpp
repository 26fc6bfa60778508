#include "base/digest.hpp"

#include <openssl/evp.h>
#include <sys/stat.h>

#include <fstream>
#include <map>
#include <mutex>

#include "base/error.hpp"

namespace escultura {

struct Digest::Impl {
    EVP_MD_CTX* context = EVP_MD_CTX_new();
    Impl() { EVP_DigestInit_ex(context, EVP_sha256(), nullptr); }
    ~Impl() { EVP_MD_CTX_free(context); }
};

Digest::Digest() : impl_(std::make_unique<Impl>()) {}
Digest::~Digest() = default;

Digest& Digest::addBytes(const void* data, std::size_t bytes) {
    EVP_DigestUpdate(impl_->context, data, bytes);
    return *this;
}

Digest& Digest::add(std::string_view text) {
    add(static_cast<std::int64_t>(text.size()));
    return addBytes(text.data(), text.size());
}

Digest& Digest::add(double value) {
    if (value == 0) value = 0;  // -0 and 0 are the same input
    return addBytes(&value, sizeof value);
}

Digest& Digest::add(std::int64_t value) {
    return addBytes(&value, sizeof value);
}

std::string Digest::hex() {
    unsigned char bytes[EVP_MAX_MD_SIZE];
    unsigned int count = 0;
    EVP_DigestFinal_ex(impl_->context, bytes, &count);
    static const char* digits = "0123456789abcdef";
    std::string text;
    for (unsigned int i = 0; i < count; ++i) {
        text += digits[bytes[i] >> 4];
        text += digits[bytes[i] & 15];
    }
    return text;
}

std::string sha256(const std::string& text) {
    Digest digest;
    digest.addBytes(text.data(), text.size());
    return digest.hex();
}

std::string sha256OfFile(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    if (!in) throw InputError(ErrorDetail{"The file cannot be read.", path, {}, "a readable file", "nothing there"});
    Digest digest;
    std::vector<char> buffer(1 << 20);
    while (in) {
        in.read(buffer.data(), static_cast<std::streamsize>(buffer.size()));
        digest.addBytes(buffer.data(), static_cast<std::size_t>(in.gcount()));
    }
    return digest.hex();
}

std::string fileState(const std::string& path) {
    struct Known {
        std::int64_t seconds = 0, nanoseconds = 0, size = 0;
        std::uint64_t device = 0, inode = 0;
        std::string digest;
    };
    static std::mutex mutex;
    static std::map<std::string, Known> known;
    struct stat now {};
    if (::stat(path.c_str(), &now) != 0) return "missing";
    if (!S_ISREG(now.st_mode)) return "no file";
    Known k;
    k.seconds = now.st_mtim.tv_sec;
    k.nanoseconds = now.st_mtim.tv_nsec;
    k.size = now.st_size;
    k.device = now.st_dev;
    k.inode = now.st_ino;
    {
        const std::lock_guard lock(mutex);
        const auto at = known.find(path);
        if (at != known.end() && at->second.seconds == k.seconds && at->second.nanoseconds == k.nanoseconds &&
            at->second.size == k.size && at->second.device == k.device && at->second.inode == k.inode)
            return at->second.digest;
    }
    try {
        k.digest = sha256OfFile(path);
    } catch (const std::exception&) {
        return "unreadable";
    }
    const std::lock_guard lock(mutex);
    known[path] = k;
    return k.digest;
}

}  // namespace escultura

#include "base/signature.hpp"

#include <fcntl.h>
#include <openssl/evp.h>
#include <openssl/pem.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <memory>
#include <vector>

#include "base/digest.hpp"
#include "base/error.hpp"

namespace escultura {
namespace {

using Key = std::unique_ptr<EVP_PKEY, decltype(&EVP_PKEY_free)>;
using Bio = std::unique_ptr<BIO, decltype(&BIO_free)>;
using Context = std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)>;

/// A key that asks for no pass phrase: none is used.
int noPhrase(char*, int, int, void*) {
    return 0;
}

Key read(const std::string& pem, bool secret) {
    const Bio in(BIO_new_mem_buf(pem.data(), static_cast<int>(pem.size())), BIO_free);
    Key key(secret ? PEM_read_bio_PrivateKey(in.get(), nullptr, noPhrase, nullptr)
                   : PEM_read_bio_PUBKEY(in.get(), nullptr, noPhrase, nullptr),
            EVP_PKEY_free);
    if (!key || EVP_PKEY_get_id(key.get()) != EVP_PKEY_ED25519)
        throw InputError(
            ErrorDetail{"The key cannot be used.",
                        {},
                        {},
                        std::string(secret ? "a secret" : "a public") + " Ed25519 key as PEM, without a pass phrase",
                        key ? "a key of another kind" : "something else"});
    return key;
}

std::string written(EVP_PKEY* key, bool secret) {
    const Bio out(BIO_new(BIO_s_mem()), BIO_free);
    const int good = secret ? PEM_write_bio_PrivateKey(out.get(), key, nullptr, nullptr, 0, nullptr, nullptr)
                            : PEM_write_bio_PUBKEY(out.get(), key);
    char* data = nullptr;
    const long size = BIO_get_mem_data(out.get(), &data);
    if (good != 1 || size <= 0) throw Error("The key cannot be written.");
    return {data, static_cast<std::size_t>(size)};
}

}  // namespace

KeyPair newKeyPair() {
    const Key key(EVP_PKEY_Q_keygen(nullptr, nullptr, "ED25519"), EVP_PKEY_free);
    if (!key) throw Error("No key can be made: the system gives no random numbers.");
    return {written(key.get(), true), written(key.get(), false)};
}

std::string openKeyOf(const std::string& secretKey) {
    return written(read(secretKey, true).get(), false);
}

std::string signatureOf(const std::string& text, const std::string& secretKey) {
    const Key key = read(secretKey, true);
    const Context context(EVP_MD_CTX_new(), EVP_MD_CTX_free);
    std::size_t size = 64;
    std::vector<unsigned char> bytes(size);
    if (EVP_DigestSignInit(context.get(), nullptr, nullptr, nullptr, key.get()) != 1 ||
        EVP_DigestSign(context.get(), bytes.data(), &size, reinterpret_cast<const unsigned char*>(text.data()),
                       text.size()) != 1)
        throw Error("The text cannot be signed.");
    static const char* digits = "0123456789abcdef";
    std::string hex;
    for (std::size_t i = 0; i < size; ++i) {
        hex += digits[bytes[i] >> 4];
        hex += digits[bytes[i] & 15];
    }
    return hex;
}

bool isSignatureOf(const std::string& text, const std::string& signature, const std::string& openKey) {
    const Key key = read(openKey, false);
    std::vector<unsigned char> bytes;
    auto digit = [](char c) { return c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : -1; };
    std::string hex = signature;
    while (!hex.empty() && (hex.back() == '\n' || hex.back() == '\r' || hex.back() == ' ')) hex.pop_back();
    if (hex.size() != 128) return false;
    for (std::size_t i = 0; i < hex.size(); i += 2) {
        const int high = digit(hex[i]), low = digit(hex[i + 1]);
        if (high < 0 || low < 0) return false;
        bytes.push_back(static_cast<unsigned char>(16 * high + low));
    }
    const Context context(EVP_MD_CTX_new(), EVP_MD_CTX_free);
    return EVP_DigestVerifyInit(context.get(), nullptr, nullptr, nullptr, key.get()) == 1 &&
           EVP_DigestVerify(context.get(), bytes.data(), bytes.size(),
                            reinterpret_cast<const unsigned char*>(text.data()), text.size()) == 1;
}

std::string writeNewKey(const std::string& path) {
    const KeyPair key = newKeyPair();
    auto put = [](const std::string& name, const std::string& text, int mode) {
        const int file = open(name.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode);
        const bool good =
            file >= 0 && write(file, text.data(), text.size()) == static_cast<ssize_t>(text.size()) && fsync(file) == 0;
        const int code = errno;
        if (file >= 0) close(file);
        if (good) return;
        if (file >= 0) unlink(name.c_str());
        throw InputError(ErrorDetail{
            "The key cannot be written.", name, {}, "a new file in a folder that can be written", std::strerror(code)});
    };
    put(path, key.secret, 0600);
    try {
        put(path + ".pub", key.open, 0644);
    } catch (...) {
        unlink(path.c_str());
        throw;
    }
    return key.open;
}

std::string fingerprintOf(const std::string& openKey) {
    return sha256(written(read(openKey, false).get(), false)).substr(0, 16);
}

}  // namespace escultura

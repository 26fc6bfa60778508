/// @file base/signature.hpp
/// Detached signatures: Ed25519 (RFC 8032), keys as PEM (PKCS #8, SubjectPublicKeyInfo), signatures as hexadecimal
/// text.

#pragma once
#include <string>

namespace escultura {

struct KeyPair {
    std::string secret, open;  ///< PEM
};
/// @throws Error when no random numbers are to be had
KeyPair newKeyPair();

/// The public key of a secret one, as PEM. @throws InputError when the text is no secret Ed25519 key
std::string openKeyOf(const std::string& secretKey);
/// @throws InputError when the text is no secret Ed25519 key
std::string signatureOf(const std::string& text, const std::string& secretKey);
/// @throws InputError when the key's text is no public Ed25519 key
bool isSignatureOf(const std::string& text, const std::string& signature, const std::string& openKey);
/// Makes a key: the secret one goes to a file that only its owner may read, the public one beside it (.pub).
/// @return the public key. @throws InputError when one of the files is there, or cannot be written
std::string writeNewKey(const std::string& path);
/// First 16 characters of the SHA-256 of a public key, for people to compare. @throws InputError likewise
std::string fingerprintOf(const std::string& openKey);

}  // namespace escultura

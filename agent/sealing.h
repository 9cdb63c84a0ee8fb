// Keyed digests and sealed texts, with a key that a configuration names.
//
// A sealed text is base64 (RFC 4648, section 5, without padding) of a byte 1, a nonce of 12 bytes, the text encrypted with
// AES-256 in GCM (NIST SP 800-38D), and its tag of 16 bytes. The key is the SHA-256 of "dingle held" and the secret.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "core/steps/sealing.h"

namespace dingle {

// `place`: of the secret ("env:NAME", "file:PATH"), which is read when it is first needed.
std::shared_ptr<const Sealing> sealing_with(const std::string& place);
// With a random key that nobody else has.
std::shared_ptr<const Sealing> sealing_made_up();
// What was sealed with that secret; nothing if it was another one, or the text is no sealed one.
std::optional<std::string> open_sealed(std::string_view sealed, std::string_view secret);

}  // namespace dingle

// What needs a key: made outside, since the core reads no secrets.
#pragma once

#include <string>
#include <string_view>

namespace dingle {

class Sealing {
 public:
  virtual ~Sealing() = default;
  // Why its key cannot be read, or "".
  virtual std::string problem() const = 0;
  // Equal texts have equal digests (HMAC with SHA-256, RFC 2104), in hexadecimal digits. "" without a key.
  virtual std::string digest(std::string_view text) const = 0;
  // The text so that only who has the key can read it, as printable text. "" without a key.
  virtual std::string seal(std::string_view text) const = 0;
};

}  // namespace dingle

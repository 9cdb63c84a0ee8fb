#include "agent/secret.h"

#include <openssl/crypto.h>
#include <xxhash.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <sstream>

namespace dingle {

Result<std::string> read_secret_at(const std::string& place) {
  const std::size_t colon = place.find(':');
  const std::string name = place.substr(colon + 1);
  if (place.starts_with("env:")) {
    const char* value = std::getenv(name.c_str());
    if (value == nullptr)
      return Problem{"the secret's environment variable " + name + " is not set", "", 0, 0};
    if (*value == '\0') return Problem{"the secret's environment variable " + name + " is empty", "", 0, 0};
    return std::string(value);
  }
  std::ifstream file(name, std::ios::binary);
  if (!file) return Problem{"cannot read the secret's file " + name + ": " + std::strerror(errno), "", 0, 0};
  std::stringstream text;
  text << file.rdbuf();
  std::string value = std::move(text).str();
  while (!value.empty() && (value.back() == '\n' || value.back() == '\r')) value.pop_back();
  if (value.empty()) return Problem{"the secret's file " + name + " is empty", "", 0, 0};
  return value;
}

Result<std::string> read_secret(const Options& options, std::string_view name) {
  if (!options.given(name)) return std::string();
  return read_secret_at(options.text(name));
}

Result<std::string> read_token_at(const std::string& place) {
  Result<std::string> token = read_secret_at(place);
  if (token && token->size() < kShortestToken)
    return Problem{"the token in " + place.substr(place.find(':') + 1) + " is shorter than " +
                       std::to_string(kShortestToken) + " characters, and is not taken",
                   "", 0, 0};
  return token;
}

std::uint64_t fingerprint_of_secrets(const Options& options) {
  std::uint64_t mixed = 0;
  for (const std::string& place : options.secrets()) {
    Result<std::string> value = read_secret_at(place);
    const std::string& text = value ? *value : value.problem().message;
    mixed = XXH64(text.data(), text.size(), mixed + 1);
  }
  return mixed;
}

bool tokens_equal(std::string_view a, std::string_view b) {
  return a.size() == b.size() && CRYPTO_memcmp(a.data(), b.data(), a.size()) == 0;
}

}  // namespace dingle

#include "agent/secret.h"

#include <fcntl.h>
#include <openssl/crypto.h>
#include <sys/stat.h>
#include <unistd.h>
#include <xxhash.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>

namespace dingle {
namespace {
constexpr std::size_t kLargestSecret = 64 * 1024;
}  // namespace

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
  // A file that blocks, or has no end, would hold up whoever asks.
  const auto unreadable = [&](const std::string& why) {
    return Problem{"cannot read the secret's file " + name + ": " + why, "", 0, 0};
  };
  const int fd = ::open(name.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY);
  if (fd < 0) return unreadable(std::strerror(errno));
  struct stat info;
  std::string value;
  std::string why;
  if (::fstat(fd, &info) != 0)
    why = std::strerror(errno);
  else if (!S_ISREG(info.st_mode))
    why = "it is no regular file";
  else if (info.st_size > static_cast<off_t>(kLargestSecret))
    why = "it is larger than 64 KiB";
  else {
    value.resize(kLargestSecret);
    std::size_t size = 0;
    ssize_t n = 0;
    while (size < value.size() && (n = ::read(fd, value.data() + size, value.size() - size)) > 0)
      size += static_cast<std::size_t>(n);
    if (n < 0) why = std::strerror(errno);
    value.resize(size);
  }
  ::close(fd);
  if (!why.empty()) return unreadable(why);
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

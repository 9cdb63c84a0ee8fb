#include "agent/sealing.h"

#include <openssl/crypto.h>
#include <openssl/evp.h>
#include <openssl/hmac.h>
#include <openssl/rand.h>

#include <mutex>

#include "agent/secret.h"

namespace dingle {
namespace {

constexpr std::size_t kNonce = 12, kTag = 16;
constexpr char kVersion = 1;
constexpr std::string_view kDigits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";

const unsigned char* bytes(std::string_view text) {
  return reinterpret_cast<const unsigned char*>(text.data());
}
unsigned char* bytes(std::string& text) { return reinterpret_cast<unsigned char*>(text.data()); }

std::string base64(std::string_view text) {
  std::string out;
  std::uint32_t bits = 0;
  int held = 0;
  for (const char c : text) {
    bits = (bits << 8) | static_cast<unsigned char>(c);
    for (held += 8; held >= 6; held -= 6) out += kDigits[bits >> (held - 6) & 63];
  }
  if (held != 0) out += kDigits[bits << (6 - held) & 63];
  return out;
}

std::optional<std::string> from_base64(std::string_view text) {
  std::string out;
  std::uint32_t bits = 0;
  int held = 0;
  for (const char c : text) {
    const std::size_t digit = kDigits.find(c);
    if (digit == std::string_view::npos) return {};
    bits = (bits << 6) | static_cast<std::uint32_t>(digit);
    if ((held += 6) >= 8) out += static_cast<char>(bits >> (held -= 8) & 255);
  }
  return out;
}

std::string key_of(std::string_view secret) {
  const std::string text = "dingle held" + std::string(secret);
  std::string key(32, '\0');
  unsigned size = 0;
  EVP_Digest(text.data(), text.size(), bytes(key), &size, EVP_sha256(), nullptr);
  return key;
}

using Context = std::unique_ptr<EVP_CIPHER_CTX, decltype(&EVP_CIPHER_CTX_free)>;

class Keyed final : public Sealing {
 public:
  explicit Keyed(std::string place) : place_(std::move(place)) {}
  Keyed(std::string secret, std::string key) : secret_(std::move(secret)), sealing_key_(std::move(key)) {}

  std::string problem() const override {
    if (place_.empty()) return "";
    const auto secret = read_secret_at(place_);
    return secret ? "" : secret.problem().message;
  }
  std::string digest(std::string_view text) const override {
    const std::string& key = secret();
    if (key.empty()) return "";
    unsigned char made[EVP_MAX_MD_SIZE];
    unsigned size = 0;
    if (HMAC(EVP_sha256(), key.data(), static_cast<int>(key.size()), bytes(text), text.size(), made, &size) ==
        nullptr)
      return "";
    std::string out;
    for (unsigned i = 0; i < size; ++i)
      out += "0123456789abcdef"[made[i] >> 4], out += "0123456789abcdef"[made[i] & 15];
    return out;
  }
  std::string seal(std::string_view text) const override {
    if (secret().empty()) return "";
    std::string sealed(1 + kNonce + text.size() + kTag, kVersion);
    unsigned char* const nonce = bytes(sealed) + 1;
    unsigned char* const to = nonce + kNonce;
    const Context context(EVP_CIPHER_CTX_new(), EVP_CIPHER_CTX_free);
    int size = 0;
    const bool made =
        context && RAND_bytes(nonce, kNonce) == 1 &&
        EVP_EncryptInit_ex(context.get(), EVP_aes_256_gcm(), nullptr, bytes(sealing_key_), nonce) == 1 &&
        EVP_EncryptUpdate(context.get(), to, &size, bytes(text), static_cast<int>(text.size())) == 1 &&
        EVP_EncryptFinal_ex(context.get(), to + size, &size) == 1 &&
        EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_GCM_GET_TAG, kTag, to + text.size()) == 1;
    return made ? base64(sealed) : "";
  }

 private:
  const std::string& secret() const {
    const std::lock_guard lock(mutex_);
    if (secret_.empty())
      if (auto read = read_secret_at(place_)) {
        secret_ = *read;
        sealing_key_ = key_of(secret_);
      }
    return secret_;  // once it is there it stays
  }

  const std::string place_;
  mutable std::mutex mutex_;
  mutable std::string secret_, sealing_key_;
};

}  // namespace

std::shared_ptr<const Sealing> sealing_with(const std::string& place) {
  return std::make_shared<Keyed>(place);
}

std::shared_ptr<const Sealing> sealing_made_up() {
  std::string secret(32, '\0');
  if (RAND_bytes(bytes(secret), static_cast<int>(secret.size())) != 1) return nullptr;
  std::string key = key_of(secret);
  return std::make_shared<Keyed>(std::move(secret), std::move(key));
}

std::optional<std::string> open_sealed(std::string_view sealed, std::string_view secret) {
  auto raw = from_base64(sealed);
  if (!raw || raw->size() < 1 + kNonce + kTag || raw->front() != kVersion) return {};
  std::string key = key_of(secret);
  std::string text(raw->size() - 1 - kNonce - kTag, '\0');
  unsigned char* const nonce = bytes(*raw) + 1;
  unsigned char* const from = nonce + kNonce;
  const Context context(EVP_CIPHER_CTX_new(), EVP_CIPHER_CTX_free);
  int size = 0;
  unsigned char none = 0;
  const bool opened =
      context && EVP_DecryptInit_ex(context.get(), EVP_aes_256_gcm(), nullptr, bytes(key), nonce) == 1 &&
      EVP_DecryptUpdate(context.get(), text.empty() ? &none : bytes(text), &size, from,
                        static_cast<int>(text.size())) == 1 &&
      EVP_CIPHER_CTX_ctrl(context.get(), EVP_CTRL_GCM_SET_TAG, kTag, from + text.size()) == 1 &&
      EVP_DecryptFinal_ex(context.get(), &none, &size) == 1;
  OPENSSL_cleanse(key.data(), key.size());
  if (!opened) return {};
  return text;
}

}  // namespace dingle

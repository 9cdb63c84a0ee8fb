// A Bloom filter over the words of a block: fourteen bits for each distinct word, seven probes, about 0.15 % false
// positives (ten bits and 0.9 % in older indexes; what a block costs that is opened for nothing is far more). Its bytes are the bit array, lowest bit first, a multiple of eight bytes; its size in bits is their
// number times eight. Behind it stand four bytes: the low half of the array's XXH3, since a bit that was lost
// would hide events. Filters of older indexes lack them.
#pragma once

#include <xxhash.h>

#include <cstdint>
#include <cstring>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/condition/words.h"

namespace dingle {

inline constexpr int kBloomProbes = 7;
inline constexpr std::size_t kBloomBitsPerWord = 14;

inline std::uint64_t word_hash(std::string_view word) {
  char lower[64];
  if (word.size() > sizeof lower) {  // long ones are cut: still never a false negative
    word = word.substr(0, sizeof lower);
  }
  for (std::size_t i = 0; i < word.size(); ++i) lower[i] = lower_ascii(word[i]);
  return XXH64(lower, word.size(), 0);
}

inline std::uint64_t bloom_bit(std::uint64_t hash, int probe, std::size_t bits) {
  const std::uint64_t a = hash & 0xFFFFFFFF, b = hash >> 32 | 1;
  return (a + static_cast<std::uint64_t>(probe) * b) % bits;
}

// `hashes`: of the distinct words.
inline std::string make_bloom(const std::vector<std::uint64_t>& hashes) {
  std::string bytes((hashes.size() * kBloomBitsPerWord + 63) / 64 * 8 + 8, '\0');
  for (std::uint64_t hash : hashes)
    for (int probe = 0; probe < kBloomProbes; ++probe) {
      const std::uint64_t bit = bloom_bit(hash, probe, bytes.size() * 8);
      bytes[bit / 8] = static_cast<char>(bytes[bit / 8] | 1 << (bit % 8));
    }
  const auto check = static_cast<std::uint32_t>(XXH3_64bits(bytes.data(), bytes.size()));
  return bytes.append(reinterpret_cast<const char*>(&check), sizeof check);
}

// The bit array of a filter as it is stored; nothing if it is damaged.
inline std::optional<std::string_view> bloom_bits(std::string_view stored) {
  std::uint32_t check;
  if (stored.size() % 8 == 0) return stored;
  if (stored.size() % 8 != sizeof check) return {};
  const std::string_view bits = stored.substr(0, stored.size() - sizeof check);
  std::memcpy(&check, bits.data() + bits.size(), sizeof check);
  if (check != static_cast<std::uint32_t>(XXH3_64bits(bits.data(), bits.size()))) return {};
  return bits;
}

inline bool bloom_may_have(std::string_view bytes, std::uint64_t hash) {
  if (bytes.empty()) return true;
  for (int probe = 0; probe < kBloomProbes; ++probe) {
    const std::uint64_t bit = bloom_bit(hash, probe, bytes.size() * 8);
    if (!(bytes[bit / 8] >> (bit % 8) & 1)) return false;
  }
  return true;
}

}  // namespace dingle

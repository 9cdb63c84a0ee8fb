#include "core/steps/sketch.h"

#include <algorithm>
#include <bit>
#include <cmath>

namespace dingle {

void DistinctSketch::mark(std::uint64_t hash) {
  const auto rank =
      static_cast<char>(std::countl_zero((hash << kBits) | (std::uint64_t{1} << (kBits - 1))) + 1);
  char& r = registers_[hash >> (64 - kBits)];
  r = std::max(r, rank);
}

// Goes over to registers.
void DistinctSketch::open() {
  if (!registers_.empty()) return;
  registers_.assign(kRegisters, 0);
  for (const std::uint64_t hash : hashes_) mark(hash);
  hashes_ = {};
}

void DistinctSketch::add(std::uint64_t hash) {
  if (!registers_.empty()) return mark(hash);
  const auto at = std::lower_bound(hashes_.begin(), hashes_.end(), hash);
  if (at != hashes_.end() && *at == hash) return;
  hashes_.insert(at, hash);
  if (hashes_.size() > kExact) open();
}

void DistinctSketch::merge(const DistinctSketch& other) {
  if (other.exact()) {
    for (const std::uint64_t hash : other.hashes_) add(hash);
    return;
  }
  open();
  for (std::size_t i = 0; i < kRegisters; ++i) registers_[i] = std::max(registers_[i], other.registers_[i]);
}

std::uint64_t DistinctSketch::estimate() const {
  if (registers_.empty()) return hashes_.size();
  constexpr double m = kRegisters, kAlpha = 0.7213 / (1 + 1.079 / m);
  double sum = 0, empty = 0;
  for (const char r : registers_) sum += std::ldexp(1.0, -r), empty += r == 0;
  double n = kAlpha * m * m / sum;
  if (n <= 2.5 * m && empty > 0) n = m * std::log(m / empty);
  return static_cast<std::uint64_t>(std::llround(n));
}

void DistinctSketch::write(ByteWriter& out) const {
  out.varint(hashes_.size());
  for (const std::uint64_t hash : hashes_) out.u64(hash);
  out.text(registers_);
}

bool DistinctSketch::read(ByteReader& in) {
  hashes_.resize(in.count(8));
  for (std::uint64_t& hash : hashes_) hash = in.u64();
  registers_ = in.text();
  return in.ok() && hashes_.size() <= kExact && std::is_sorted(hashes_.begin(), hashes_.end()) &&
         (registers_.empty() || (registers_.size() == kRegisters && hashes_.empty()));
}

}  // namespace dingle

// How many different values there were: exact up to 64, beyond that an estimate in 1 KiB whose error is about
// 3 % (standard deviation; Flajolet and others, "HyperLogLog", 2007, with 1024 registers).
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "core/bytes.h"

namespace dingle {

class DistinctSketch {
 public:
  void add(std::uint64_t hash);  // of the value; its bits must be even in all places
  void merge(const DistinctSketch& other);
  std::uint64_t estimate() const;
  bool exact() const { return registers_.empty(); }
  std::size_t bytes() const { return 8 * hashes_.size() + registers_.size(); }
  void write(ByteWriter& out) const;
  bool read(ByteReader& in);

 private:
  static constexpr std::size_t kExact = 64, kBits = 10, kRegisters = std::size_t{1} << kBits;
  void mark(std::uint64_t hash);
  void open();
  std::vector<std::uint64_t> hashes_;  // sorted; until there are too many
  std::string registers_;              // from then on
};

}  // namespace dingle

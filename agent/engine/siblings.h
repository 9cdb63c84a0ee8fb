// Of which lines a pipeline made several events that are stored, whatever their times.
#pragma once

#include <cstdint>
#include <optional>
#include <unordered_set>

#include "spool/events.h"
#include "store/store.h"

namespace dingle {

class Siblings {
 public:
  // Whether other events of the line and pipeline of a stored one are there. The first call reads three columns of every block,
  // twice, and needs 32 MiB meanwhile.
  bool has(const Store& store, const SpooledEvent& stored);

 private:
  void look(const Store& store);
  std::optional<std::unordered_set<std::uint64_t>> several_;  // lines with their pipelines, by a hash
};

}  // namespace dingle

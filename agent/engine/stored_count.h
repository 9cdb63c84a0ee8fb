// What a destination says that it stored, held against what it answered.
//
// A destination that can tell counts in its own transactions. Its count and the spool's are committed with the
// same cursor, so that they agree whenever a batch is through, whatever ended in between; by how much they differ for
// a reason that was told (it was restored, the spool is a copy) is a counter of its own, `apart`.
// One thread uses it.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "spool/spool.h"

namespace dingle {

class StoredCount {
 public:
  StoredCount(Spool& spool, std::uint32_t destination);

  // The destination's count, as it is now.
  void told(std::uint64_t stored) { told_ = stored; }
  bool tells() const { return told_.has_value(); }
  // By how many events it has fewer than when a batch was through last; asked when it is connected to.
  std::uint64_t fewer() const { return told_ && *told_ < stored_ ? stored_ - *told_ : 0; }
  // What differs once the next batch is through has a reason that was told.
  void explained() { explained_ = true; }

  // A batch is through, of which it took so many: adds the changes that are committed with the cursor.
  void pass(std::uint64_t answered, std::vector<CounterChange>& changes);
  // What was passed and is not committed is forgotten.
  void go_back();

 private:
  Spool& spool_;
  const std::uint32_t destination_;
  const CounterId stored_id_, apart_id_;
  std::optional<std::uint64_t> told_;
  std::uint64_t stored_ = 0, answered_ = 0;  // when a batch was through last
  std::int64_t apart_ = 0;
  bool explained_ = false;
};

}  // namespace dingle

#include "agent/engine/stored_count.h"

#include <utility>

namespace dingle {

StoredCount::StoredCount(Spool& spool, std::uint32_t destination)
    : spool_(spool),
      destination_(destination),
      stored_id_(spool.counter_id(counter_of_destination(destination, "stored"))),
      apart_id_(spool.counter_id(counter_of_destination(destination, "apart"))) {
  go_back();
  explained_ = stored_ == 0 && apart_ == 0 && answered_ != 0;  // it counts from now on
}

void StoredCount::go_back() {
  const auto counter = [&](const char* what) {
    return spool_.counter(counter_of_destination(destination_, what));
  };
  stored_ = static_cast<std::uint64_t>(counter("stored"));
  answered_ = static_cast<std::uint64_t>(counter("answered"));
  apart_ = counter("apart");
}

void StoredCount::pass(std::uint64_t answered, std::vector<CounterChange>& changes) {
  answered_ += answered;
  if (!told_) return;
  if (const auto more = static_cast<std::int64_t>(*told_ - stored_); more != 0)
    changes.push_back({stored_id_, more});
  stored_ = *told_;
  if (!std::exchange(explained_, false)) return;
  const auto apart = static_cast<std::int64_t>(stored_ - answered_);
  if (apart != apart_) changes.push_back({apart_id_, apart - apart_});
  apart_ = apart;
}

}  // namespace dingle

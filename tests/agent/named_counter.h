// Counters of the spool by names.
#pragma once

#include <string>

#include "spool/spool.h"

namespace dingle {

// Those of a pipeline as `pipeline/NAME/WHAT`; the spool has its id in place of the name.
inline std::int64_t named_counter(const Spool& spool, const std::string& counter) {
  const std::string kind = "pipeline/";
  const std::size_t end = counter.rfind('/');
  if (!counter.starts_with(kind)) return spool.counter(counter);
  const std::uint32_t id = spool.known(0, counter.substr(kind.size(), end - kind.size()));
  return spool.counter(counter_of_pipeline(id, counter.c_str() + end + 1));
}

}  // namespace dingle

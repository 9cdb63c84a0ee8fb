// Events for tests of what reads the spool.
#pragma once

#include <gtest/gtest.h>

#include <string>
#include <vector>

#include "core/event.h"
#include "spool/events.h"
#include "spool/spool.h"

namespace dingle {

// Appends one record with an event for each body, all for that destination.
inline void append_bodies(Spool& spool, std::uint32_t destination, const std::vector<std::string>& bodies,
                          std::uint64_t stream = 1, bool hidden_elsewhere = false) {
  Batch batch;
  for (const std::string& body : bodies) {
    Event e;
    e.body = body;
    batch.events.push_back(e);
  }
  Section section{1, "p", "c", {{destination, {}, {}}}, &batch};
  if (hidden_elsewhere) section.hidden_elsewhere.assign(bodies.size(), true);
  Spool::Append a;
  a.destinations = {{destination, static_cast<std::uint32_t>(bodies.size())}};
  const Slice slice{stream, "s", "UTC", {}};
  a.events = encode_events({&slice, 1}, {section}).bytes;
  ASSERT_EQ(spool.append(a), 0);
}

}  // namespace dingle

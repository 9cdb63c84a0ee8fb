// An event and its neighbours: what stood before and behind it in the file, or came through the connection.
#pragma once

#include <optional>

#include "store/search.h"

namespace dingle {

inline constexpr std::size_t kMostNeighbours = 1000;

struct Around {
  std::vector<FoundEvent> events;  // in the order of their lines
  std::size_t at = 0;              // the event itself
};
// The event with that id (event_id in spool/events.h), and of those that the query admits up to `lines` before and as many behind it. Of a file,
// what was read under the same path before it was rotated, and after, stands there too. Reads three columns of the blocks in the
// query's time up to that with the event, and of those with its stream near it; nothing if no event has the id.
std::optional<Around> find_around(const std::vector<const Store*>& stores, const Query& query, EventKey id,
                                  std::size_t lines,
                                  const std::function<void(const StoredEvent&, std::string&)>& write,
                                  Scanned& scanned);

}  // namespace dingle

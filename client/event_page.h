// A page of events as the API answers it, taken apart without making a tree of it: an export has thousands of them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "agent/json.h"

namespace dingle {

struct EventPage {
  std::string text;                      // the answer, with room behind it
  std::vector<std::string_view> events;  // JSON objects, slices of it; gone with it
  std::string next;                      // where the next page begins; empty: there is none
  std::int64_t changes = 0;
  Json scanned;
};
// Nothing unless it is what the API answers. Costs about a nanosecond for each byte.
std::optional<EventPage> read_event_page(std::string answer);

// Of one event of a page, the value of a field as JSON text; nothing if it has none. A slice of the page.
std::optional<std::string_view> member_of(const EventPage& page, std::string_view event,
                                          const std::string& field);

}  // namespace dingle

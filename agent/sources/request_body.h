// The events in the body of a request: lines, or the items of a JSON document.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "agent/sources/source.h"
#include "core/result.h"

namespace dingle {

// An event costs memory beside its text: so much is charged for each, and no request may be charged more than four times its
// longest length.
inline constexpr std::size_t kChargedPerEvent = 128;  // bytes
constexpr std::size_t most_events(std::size_t largest_request) {
  return 4 * largest_request / kChargedPerEvent;
}

struct BodyEvents {
  std::vector<SourceLine> events;                              // views into the body; positions in it
  std::uint64_t lines = 0, empty = 0, cut = 0, cut_bytes = 0;  // lines = events + empty
};

// Lines end with LF or CR LF; the last one needs no end. Those of more than `longest` bytes are cut there.
// Nothing, if there are more than `most` of them.
std::optional<BodyEvents> lines_of(std::string_view body, std::size_t longest, std::size_t most = SIZE_MAX);
// A JSON text (RFC 8259): of an array each item is an event, anything else is one. An event's text is as it
// stands there. The problem's offset is a byte of the body. Behind the body LineBuffer::kPadding bytes can be
// read. Counts no further than to one more than `most`.
Result<BodyEvents> items_of(std::string_view body, std::size_t longest, std::size_t most = SIZE_MAX);

}  // namespace dingle

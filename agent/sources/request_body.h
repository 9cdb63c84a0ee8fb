// The events in the body of a request: lines, or the items of a JSON document.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "agent/sources/source.h"
#include "core/result.h"

namespace dingle {

struct BodyEvents {
  std::vector<SourceLine> events;                              // views into the body; positions in it
  std::uint64_t lines = 0, empty = 0, cut = 0, cut_bytes = 0;  // lines = events + empty
};

// Lines end with LF or CR LF; the last one needs no end. Those of more than `longest` bytes are cut there.
BodyEvents lines_of(std::string_view body, std::size_t longest);
// A JSON text (RFC 8259): of an array each item is an event, anything else is one. An event's text is as it
// stands there. The problem's offset is a byte of the body. Behind the body LineBuffer::kPadding bytes can be
// read.
Result<BodyEvents> items_of(std::string_view body, std::size_t longest);

}  // namespace dingle

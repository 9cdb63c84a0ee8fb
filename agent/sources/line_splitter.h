// Cuts a chunk of a file into lines, and joins lines that belong to one event.
#pragma once

#include <cstdint>
#include <memory>
#include <string_view>
#include <vector>

#include "agent/sources/source.h"
#include "core/template/template.h"

namespace dingle {

struct SplitSettings {
  std::size_t longest_line = 1 << 20;  // bytes; longer ones are cut
  // A line goes on with the event before it if it does not match `starts_with`, if it matches
  // `continues_with`, if it begins with a blank or tab and `indented` is set, or if the event has a double quote that is not closed
  // and `quoted` is set (RFC 4180, section 2); those that are not set say nothing.
  std::shared_ptr<const Template> starts_with, continues_with;
  bool indented = false, quoted = false;
  bool joins() const { return starts_with || continues_with || indented || quoted; }
  bool any_may_go_on() const { return starts_with || continues_with || indented; }
  std::size_t most_lines = 500;  // of one joined event
  std::size_t most_bytes = 256 * 1024;
};

struct Split {
  std::vector<SourceLine> events;  // views into the chunk; positions in the chunk
  std::size_t consumed = 0;        // bytes of the chunk that are done with
  std::uint64_t lines = 0, empty = 0, merged = 0, cut = 0, cut_bytes = 0;  // lines = events + empty + merged
  bool skipping = false;  // the chunk ends within a line that was cut
};

// What may go on stays for the next time, unless nothing will follow soon. `ends`: not to the last line, which then needs no
// newline. `closes`: not to the last event, if a whole line ends the chunk. `skipping`: the chunk begins within a line that
// was cut.
Split split(std::string_view chunk, const SplitSettings& settings, bool skipping, bool ends, bool closes);
inline Split split(std::string_view chunk, const SplitSettings& settings, bool skipping, bool ends) {
  return split(chunk, settings, skipping, ends, ends);
}

}  // namespace dingle

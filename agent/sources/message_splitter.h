// Cuts a connection's bytes into syslog messages (RFC 6587): each begins with its length and a blank (3.4.1),
// or ends with a line feed or NUL (3.4.2). Both may come over one connection; a message that begins with a
// digit other than 0 says its length.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "agent/sources/source.h"

namespace dingle {

// What goes on over the chunks of a connection: a message that was too long is being passed over.
struct MessagePart {
  std::uint64_t bytes_left = 0;  // of one whose length is known
  bool to_line_feed = false;
};

struct Messages {
  std::vector<SourceLine> events;  // views into the chunk; positions in the chunk
  std::size_t consumed = 0;        // bytes of the chunk that are done with
  std::uint64_t messages = 0, empty = 0, cut = 0, cut_bytes = 0;  // messages = events + empty
};

// `ends`: nothing follows, so that the last message is taken as far as it came. Messages of more than
// `longest` bytes are cut there. `part` is that of the connection; it is changed.
Messages take_messages(std::string_view chunk, std::size_t longest, bool ends, MessagePart& part);

}  // namespace dingle

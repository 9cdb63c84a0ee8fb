// Syslog over TCP: any bytes, in chunks that the input chooses, give the same messages as all at once;
// nothing is taken twice or from outside.
#include <cstdlib>

#include "agent/sources/message_splitter.h"
#include "core/bytes.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  constexpr std::size_t kLongest = 24;
  const std::string_view input(reinterpret_cast<const char*>(data), size);
  std::string at_once, in_chunks;
  auto take = [](std::string_view chunk, bool ends, MessagePart& part, std::string& to) {
    const Messages m = take_messages(chunk, kLongest, ends, part);
    if (m.consumed > chunk.size() || m.messages != m.events.size() + m.empty) std::abort();
    for (const SourceLine& line : m.events) {
      if (line.text.size() > kLongest || line.position + line.text.size() > m.consumed) std::abort();
      (to += line.text) += '|';
    }
    return m.consumed;
  };
  MessagePart whole, part;
  if (take(input, true, whole, at_once) != size) std::abort();
  std::string pending;
  for (std::size_t at = 0; at < size;) {
    const std::size_t n = std::min<std::size_t>(size - at, 1 + static_cast<unsigned char>(input[at]) % 16);
    pending += input.substr(at, n);
    at += n;
    pending.erase(0, take(pending, at == size, part, in_chunks));
  }
  if (at_once != in_chunks) std::abort();
  return 0;
}

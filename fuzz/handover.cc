// The handover: lines of any bytes, and lines whose members the input chooses. What is taken can be encoded as
// a block.
#include <fmt/format.h>

#include <cstdlib>

#include "core/bytes.h"
#include "core/json_text.h"
#include "store/handover_lines.h"
#include "store/store.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  const std::string_view input(reinterpret_cast<const char*>(data), size);
  HandoverLines lines;
  for (std::size_t at = 0; at < input.size();) {
    const std::size_t end = std::min(input.find('\n', at), input.size());
    lines.add(input.substr(at, end - at), {1, 1, 1, 1});
    at = end + 1;
  }
  ByteReader r(input);
  while (r.left() > 4) {
    std::string name, text;
    append_json_string(name, r.bytes(r.u8() % (r.left() + 1)));
    append_json_string(text, r.bytes(r.u8() % (r.left() + 1)));
    static const char* const kTypes[] = {"decimal", "timestamp", "ip", "list", "map", "other"};
    static const char* const kValues[] = {"1",    "-9223372036854775808", "1e300", "true",
                                          "null", "[1,{\"a\":2}]"};
    const unsigned choice = r.u8();
    const std::string value = choice & 128 ? text : kValues[choice % 6];
    lines.add(
        fmt::format(
            "{{\"index\":{},\"epoch\":1,\"number\":{},\"ordinal\":0,\"stream\":3,\"position\":4,\"time\":{},"
            "\"observed\":6,\"body\":{},\"fields\":{{{}:{}}},\"types\":{{{}:\"{}\"}}}}",
            name, choice, static_cast<std::int64_t>(r.u64()), text, name, value, name,
            kTypes[choice / 8 % 6]),
        {1, 1, 1, 1});
  }
  BlockEncoder encoder;
  for (const auto& [index, events] : lines.by_index()) {
    if (!is_index_name(index)) std::abort();
    std::size_t taken = 0;
    for (std::size_t at = 0; at < events.size(); at += taken)
      encoder.encode(std::span(events).subspan(at), taken);
  }
  return 0;
}

// Bodies of requests: the items of whatever is taken for JSON are those that a plain JSON library sees, lie
// in the body, and do not overlap; compressed bodies come to an end.
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "agent/sources/request_body.h"
#include "net/coding.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  constexpr std::size_t kMost = 1u << 20;
  const std::string_view input(reinterpret_cast<const char*>(data), size);
  LineBuffer buffer(std::max<std::size_t>(1, size));
  std::copy(input.begin(), input.end(), buffer.bytes.get());
  buffer.finish(size);
  const std::string_view body(buffer.bytes.get(), size);
  if (auto found = items_of(body, kMost)) {
    const auto whole = nlohmann::json::parse(input, nullptr, false);
    if (whole.is_discarded() || found->events.size() != (whole.is_array() ? whole.size() : 1)) std::abort();
    const char* end = body.data();
    for (std::size_t i = 0; i < found->events.size(); ++i) {
      const std::string_view text = found->events[i].text;
      if (text.data() < end || text.data() + text.size() > body.data() + size) std::abort();
      end = text.data() + text.size();
      if (nlohmann::json::parse(text, nullptr, false) != (whole.is_array() ? whole[i] : whole)) std::abort();
    }
  } else if (found.problem().offset > size) {
    std::abort();
  }
  const auto lines = lines_of(body, 16);
  if (!lines || lines->lines != lines->events.size() + lines->empty) std::abort();
  if (const auto few = lines_of(body, 16, 2); few && few->events.size() > 2) std::abort();
  if (auto text = decompress_zstd(input, kMost); text && text->size() > kMost) std::abort();
  return 0;
}

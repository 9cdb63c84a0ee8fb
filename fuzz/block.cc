// Reading a block whose directory and chunk come from the input: the directory's length stands in the first
// byte.
#include "store/block.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  if (size < 2) return 0;
  std::string_view input(reinterpret_cast<const char*>(data), size);
  const std::size_t length = std::min<std::size_t>(data[0], size - 1);
  const std::string chunk(input.substr(1 + length));
  auto block = Block::open(input.substr(1, length), [&](std::size_t) { return std::optional(chunk); });
  if (!block) return 0;
  std::vector<Field> fields, more;
  std::string json;
  for (std::size_t row = 0; row < std::min<std::size_t>(block->count(), 50); ++row)
    append_event_json(block->event(row, fields, more), true, json);
  return 0;
}

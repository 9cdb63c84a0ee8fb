// Every scanner of typed text on arbitrary bytes: what it takes lies within them, and a time is within its
// range.
#include <cstdlib>
#include <cstring>
#include <memory>

#include "core/template/lexemes.h"
#include "core/time/instant.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  std::unique_ptr<char[]> exact(new char[size]);  // so that a byte too far is seen
  if (size) std::memcpy(exact.get(), data, size);
  const char *at = exact.get(), *end = at + size;
  for (const Lexeme& lexeme : builtin_lexemes()) {
    Arena arena;
    Value value;
    const char* place = lexeme.scan(at, end, {&arena, 1'795'428'000 * kSecond}, nullptr, value);
    if (place == nullptr) continue;
    if (place <= at || place > end || value.kind() != lexeme.kind ||
        !lexeme.first.has(static_cast<unsigned char>(*at)))
      std::abort();
    if (value.kind() == Kind::timestamp) format_rfc3339(value.as_integer());
  }
  return 0;
}

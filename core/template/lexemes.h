// Typed lexemes: scanners that take the longest valid text of their kind at a place and convert it.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/template/byte_class.h"
#include "core/value.h"

namespace dingle {

// What a scanner may need besides the text.
struct MatchContext {
  Arena* arena = nullptr;      // where decoded text is kept (quoted text with escapes)
  std::int64_t reference = 0;  // ns since 1970 UTC: completes times without a year
};

// Reads the longest valid lexeme that starts at `at` within [at, end). Answers the place behind it and sets
// `out`, or nullptr when none starts there; also when its value does not fit its type. Never allocates but in
// the arena.
using LexemeScan = const char* (*)(const char* at, const char* end, const MatchContext& context, Value& out);

struct Lexeme {
  const char* name;
  Kind kind;
  LexemeScan scan;
  ByteClass first;          // every byte that a lexeme may start with
  const char* description;  // for "expected ...", with its article
  const char* example;      // several separated by a newline
  const char* not_example;
};

// All built-in typed patterns, in the order of the reference page.
const std::vector<Lexeme>& builtin_lexemes();

// True, and the OpenTelemetry severity number (1 to 24), if the text is a severity word in any case.
bool severity_number_of(std::string_view word, int& number);

// Whether a text is wholly one IPv4 or IPv6 address; its 16 bytes, IPv4 as ::ffff:a.b.c.d, into `bytes`.
bool parse_ip(std::string_view text, unsigned char bytes[16]);

}  // namespace dingle

// Typed lexemes: scanners that take the longest valid text of their kind at a place and convert it.
#pragma once

#include <cstdint>
#include <memory>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/template/byte_class.h"
#include "core/template/parameters.h"
#include "core/value.h"

namespace dingle {

// What a scanner may need besides the text.
struct MatchContext {
  Arena* arena = nullptr;               // where decoded text is kept (quoted text with escapes)
  std::int64_t reference = 0;           // ns since 1970 UTC: completes times without a year
  std::vector<Field>* found = nullptr;  // where fields go that only the text names (JSON, pairs)
  const char* readable = nullptr;       // bytes up to here may be loaded; nullptr: up to the line's end
  // Added to, if there: fields found that got no name, and values kept as texts (JsonCounts).
  std::uint64_t* left_out = nullptr;
  std::uint64_t* as_text = nullptr;
};

// Reads the longest valid lexeme that starts at `at` within [at, end). Answers the place behind it and sets
// `out`, or nullptr when none starts there; also when its value does not fit its type. Never allocates but in
// the arena. `settings`: what `prepare` made of the pattern's parameters, or nullptr.
using LexemeScan = const char* (*)(const char* at, const char* end, const MatchContext& context,
                                   const void* settings, Value& out);

// A scanner with the settings that its parameters gave it.
struct PreparedLexeme {
  LexemeScan scan = nullptr;
  std::shared_ptr<const void> settings;
  ByteClass first;  // what it may start with
};

struct Lexeme {
  const char* name;
  Kind kind;
  LexemeScan scan;
  ByteClass first;          // every byte that a lexeme may start with
  const char* description;  // for "expected ...", with its article
  const char* example;      // several separated by a newline
  const char* not_example;
  const char* parameters = "";  // what it takes, for the reference page
  // Reads the parameters, and may replace the scanner; nullptr: there are none. A range of a number is read
  // for it.
  void (*prepare)(ParameterReader& parameters, PreparedLexeme& lexeme) = nullptr;
};

// All built-in typed patterns, in the order of the reference page.
const std::vector<Lexeme>& builtin_lexemes();
const Lexeme* builtin_lexeme(std::string_view name);  // nullptr if there is none

// Patterns that bring fields of their own: some with names known beforehand (CSV columns, parts of a URI),
// some whatever the text names (JSON, pairs).
struct FieldColumn {
  std::string name;
  Kind kind = Kind::text;
};
inline constexpr std::size_t kMostFieldColumns = 200;
inline constexpr std::size_t kMostFound = 1000;  // fields that one text may name

class FieldScan {
 public:
  virtual ~FieldScan() = default;
  const std::vector<FieldColumn>& columns() const { return columns_; }  // at most kMostFieldColumns
  // Reads from `at`, fills columns[0..columns().size()) (absent where there is none) and appends what else
  // the text names to context.found, with `prefix` before each name. Answers the place behind it, or nullptr.
  virtual const char* scan(const char* at, const char* end, const MatchContext& context,
                           std::string_view prefix, Value* columns) const = 0;
  // Where `scan`, which answered nullptr, could not go on, and what was expected there ("": what its pattern describes).
  struct Failure {
    const char* at;
    std::string expected;
  };
  virtual Failure why(const char* at, const char*, const MatchContext&) const { return {at, ""}; }
  // Reads the same as one value, kept under one name: here a map of its fields.
  virtual const char* scan_whole(const char* at, const char* end, const MatchContext& context,
                                 Value& out) const;

 protected:
  std::vector<FieldColumn> columns_;
};

class PatternLibrary;
struct FieldScanMaking {
  const PatternLibrary& library;
  ByteClass ends;  // bytes that what follows in the template may start with
};

struct FieldPattern {
  const char* name;
  ByteClass first;
  bool shy;  // fields only when a prefix asks for them; else it is one text
  const char* description;
  const char* example;
  const char* not_example;
  const char* parameters;
  // nullptr after problems.
  std::shared_ptr<const FieldScan> (*prepare)(ParameterReader& parameters, const FieldScanMaking& making);
};
const std::vector<FieldPattern>& builtin_field_patterns();

// Whether a text is wholly one IPv4 or IPv6 address; its 16 bytes, IPv4 as ::ffff:a.b.c.d, into `bytes`.
bool parse_ip(std::string_view text, unsigned char bytes[16]);

}  // namespace dingle

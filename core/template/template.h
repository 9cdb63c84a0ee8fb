// Templates: patterns for whole lines, literal text with typed captures in it.
//
//   std::vector<Problem> problems;
//   auto t = Template::compile("{client.address:ip} {status:int}", library, {}, problems);
//   std::vector<Value> values(t->slots().size());
//   t->match("192.0.2.7 200", context, values.data());        // true: ip 192.0.2.7, int 200
//   t->match("192.0.2.7 OK", context, values.data());         // false
//   t->explain("192.0.2.7 OK", context);                      // offset 10, expected "a whole number"
//
// Matching is committed, from left to right: no element is reconsidered, so that a match costs at most the
// number of elements times the length of the line. The rules, with which every matcher must agree:
//  - a literal matches its bytes;
//  - a typed pattern takes the longest valid lexeme at its place;
//  - a text pattern ends at the first place, after its least length, where a literal that may follow starts;
//  all before
//    it must be of its class; where a byte is not, it ends there;
//  - an optional part that matches here is taken, and an alternative that matches here is final;
//  - a regex is one anchored call on what is left of the line, and sees nothing before it.
// The line must match to its end.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/names.h"
#include "core/result.h"
#include "core/template/lexemes.h"
#include "core/template/library.h"
#include "core/template/regex.h"
#include "core/template/syntax.h"

namespace dingle {

// What one match fills: a field's name and the kind of its value.
struct Slot {
  std::string name;
  FieldId field = kNoField;
  Kind kind = Kind::text;
};

// Why a line did not match.
struct Mismatch {
  std::size_t offset = 0;  // the furthest byte of the line that matching reached; line.size() for its end
  std::vector<std::string> expected;  // what could have stood there, in words
  std::string found;                  // what stands there, up to 24 bytes; empty at the end of the line
  bool too_expensive = false;         // a regex used up its budget
  std::vector<std::pair<std::string, Value>> so_far;  // the fields matched before; texts point into the line
  std::string sentence() const;                       // "column 11: expected a whole number, found "OK""
};

struct TemplateOptions {
  bool open_end = false;  // the template need only match the line's beginning
};

// Immutable once compiled: many threads may match with one.
class Template {
 public:
  // Nothing when there are problems; each has its place in `text`.
  static std::shared_ptr<const Template> compile(std::string_view text, const PatternLibrary& library,
                                                 TemplateOptions options, std::vector<Problem>& problems);

  // Fills values[i] for slots()[i]; a slot of an optional part that is not there is absent. Text values are
  // slices of `line` or of the context's arena. What `values` holds after false is unspecified. No allocation
  // but in the arena.
  bool match(std::string_view line, const MatchContext& context, Value* values) const;
  // Runs the line once more, noting where it fails. Only for lines that do not match; some times slower than
  // `match`.
  Mismatch explain(std::string_view line, const MatchContext& context) const;
  // Where in a line that matches each slot's text stands: offset and length, by slot; length 0 where there is
  // none.
  std::vector<std::pair<std::size_t, std::size_t>> places(std::string_view line,
                                                          const MatchContext& context) const;

  const std::vector<Slot>& slots() const { return slots_; }
  const std::string& text() const { return text_; }

 private:
  friend class TemplateCompiler;
  struct Notes;

  enum class Op : std::uint8_t { literal, lexeme, text, rest, regex, blanks, optional, choice, span };
  struct Element {
    Op op = Op::literal;
    std::int16_t slot = -1;     // where the value goes; -1: nowhere
    std::uint32_t operand = 0;  // index into the table of its op
    std::uint32_t next = 0;     // the element that follows; optional, choice, span: behind all of their parts
    std::uint32_t offset = 0, length = 0;  // of its source in the template's text
  };
  struct TextScan {
    std::uint8_t flags[256] = {};       // bit 0: of the class; bit 1: an end may start here
    std::vector<std::string> literals;  // that may follow
    ByteClass delimiters;               // single bytes that may follow (blanks)
    std::size_t at_least = 0;
    std::string single;  // the only literal, when the class is all bytes: found with memmem
    std::string description;
  };
  struct RegexUse {
    Regex regex;
    Kind kind = Kind::text;
    std::string description;
  };
  struct Range {
    std::uint32_t first, last;  // elements [first, last)
  };
  struct LexemeUse {
    LexemeScan scan;
    std::string description;
  };

  template <bool Explaining>
  const char* run(std::uint32_t first, std::uint32_t last, const char* at, const char* end,
                  const MatchContext& context, Value* values, Notes* notes) const;
  static const char* scan_text(const TextScan& scan, const char* at, const char* end);
  void clear(Range range, Value* values) const;

  std::string text_;
  std::vector<Slot> slots_;
  std::vector<Element> elements_;
  std::vector<std::string> literals_;
  std::vector<LexemeUse> lexemes_;
  std::vector<TextScan> texts_;
  std::vector<RegexUse> regexes_;
  std::vector<std::vector<Range>> branches_;
  bool open_end_ = false;
  bool has_optional_slots_ = false;
};

// Converts a text to a kind as a whole ("42" to int). Absent if it is not one. Texts stay slices.
Value convert_text(std::string_view text, Kind kind, const MatchContext& context);
// The kind of that name ("int", "decimal", "boolean", "timestamp", "ip", "text"); absent if there is none.
Kind kind_named(std::string_view name);
const std::vector<std::string>& kind_names();

}  // namespace dingle

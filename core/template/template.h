// Templates: patterns for whole lines, literal text with typed captures in it.
//
//   std::vector<Problem> problems;
//   auto t = Template::compile("{client.address:ip} {status:int}", library, {}, problems);
//   std::vector<Value> values(t->value_count());
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
#include "core/template/program.h"
#include "core/template/syntax.h"

namespace dingle {

class Template;

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
  std::string detail;                 // more, where there is more to say: "November 2026 has no day 31"
  bool too_expensive = false;         // the line used up the budget of a template
  std::vector<std::pair<std::string, Value>> so_far;  // the fields matched before; texts point into the line
  // "expected a whole number", or why else it did not match.
  std::string reason() const;
  std::string sentence() const;  // "column 11: expected a whole number, found "OK""
};
// The sentence for a text that failed at `column`, counted from 1, for that reason: with what stands there.
std::string mismatch_sentence(std::string_view text, std::size_t column, std::string_view reason);

// Where a line failed, told by the template's elements: what `locate` notes for each line that does not match.
// One object serves many lines, so that nothing is allocated for most of them.
class MatchFailure {
 public:
  struct Expected {
    std::uint32_t element = 0;  // or kEnd
    std::uint32_t skip = 0;     // bytes of a literal that stand there
    std::string said;           // what the element itself says of this line, if it says more than what it is
    bool operator==(const Expected&) const = default;
  };
  static constexpr std::uint32_t kEnd = UINT32_MAX;

  const Template* of = nullptr;
  std::size_t offset = 0;
  std::vector<Expected> expected;
  std::string detail;
  bool too_expensive = false;
  // Whether `other` is told in the same words, wherever it is.
  bool told_like(const MatchFailure& other) const {
    return of == other.of && expected == other.expected && detail == other.detail &&
           too_expensive == other.too_expensive;
  }

 private:
  friend class Explainer;
  friend class Template;
  std::vector<Value> values_, line_values_;
};

// What would help a line that did not match.
struct Advice {
  struct Other {
    std::string pattern;  // its name
    std::string text;     // what it would take, up to 60 bytes
    bool rest_matches = false;
  };
  std::vector<Other> others;    // patterns that match at the place, best first; at most five
  bool blanks = false;          // several blanks stand where the template has one: { } takes a run of them
  bool skipping_helps = false;  // with any text in the place of the element the rest of the line matches
  std::string skipped;          // the text that would be skipped then, up to 60 bytes
  std::string element;          // the element that failed, as it stands in the template
  std::string sentence()
      const;  // "{:word} would match here, and then the rest"; "" if there is nothing to say
};

// One element of a template, for people.
struct Described {
  std::string source;     // as it stands in the template
  std::string how;        // "literal text", "scanner", "regex engine", ...
  std::string why;        // what it takes and where it ends
  std::size_t depth = 0;  // within optional parts, alternatives and named templates
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
  // `values` has room for value_count().
  // `expensive`, if given, is set to 0 when the line used up the template's budget.
  bool match(std::string_view line, const MatchContext& context, Value* values,
             int* expensive = nullptr) const;
  // The same, and how many bytes from the line's beginning on it matches; npos if it does not.
  std::size_t matched(std::string_view line, const MatchContext& context, Value* values) const;
  // The same with a runner of one's own choice, for tests.
  bool match_with(const NamedRunner& runner, std::string_view line, const MatchContext& context,
                  Value* values, int* expensive = nullptr) const;
  // Runs the line once more, noting where it fails. Only for lines that do not match; some times slower than
  // `match`.
  Mismatch explain(std::string_view line, const MatchContext& context) const;
  // The same without words: to `to`, whose words `reason` finds. About the cost of a match.
  void locate(std::string_view line, const MatchContext& context, MatchFailure& to) const;
  static std::string reason(const MatchFailure& failure);  // Mismatch::reason
  // What would match at the place where the line fails. Tries every pattern of the library there: bounded,
  // but hundreds of times slower than `match`.
  Advice advise(std::string_view line, const MatchContext& context, const PatternLibrary& library) const;
  // Where in a line that matches each slot's text stands: offset and length, by slot; length 0 where there is
  // none.
  std::vector<std::pair<std::size_t, std::size_t>> places(std::string_view line,
                                                          const MatchContext& context) const;

  const std::vector<Slot>& slots() const { return slots_; }
  std::size_t value_count() const { return slots_.size() + 1; }  // the last takes what is not kept
  const std::string& text() const { return text_; }
  std::vector<Described> describe() const;
  // What is allowed but should be looked at, with its place in the text.
  const std::vector<Problem>& warnings() const { return warnings_; }
  // Fields that only the text names may come besides the slots (JSON, pairs): to context.found.
  bool brings_found() const;

 private:
  friend class TemplateCompiler;
  friend class TemplateSet;
  friend class Explainer;

  std::string text_;
  std::vector<Slot> slots_;
  std::vector<Problem> warnings_;
  Program program_;
  std::vector<std::string> expected_words(const MatchFailure& failure) const;

  bool open_end_ = false;
};

// Converts a text to a kind as a whole ("42" to int). Absent if it is not one. Texts stay slices.
Value convert_text(std::string_view text, Kind kind, const MatchContext& context);
// The kind of that name ("int", "decimal", "boolean", "timestamp", "ip", "text"); absent if there is none.
Kind kind_named(std::string_view name);
const std::vector<std::string>& kind_names();

}  // namespace dingle

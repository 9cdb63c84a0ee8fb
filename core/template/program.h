// What a template is compiled to: elements for explaining, and the same as fused instructions for matching.
//
// Elements are the template's parts one by one, as a person wrote them. Instructions carry the literal that
// follows an element along (up to eight bytes of it, compared as one number), and name the commonest scanners
// by codes of their own, so that no call goes through a pointer. Both read the same tables. Two runners exist
// for instructions, one with AVX2 and a portable one; `runners()` says which this processor can use.
#pragma once

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/template/lexemes.h"
#include "core/template/regex.h"

namespace dingle {

// Where a text may end: at a literal that may follow it.
struct EndLiteral {
  std::string text;
  bool any_case = false;  // then `text` is in lower case
  friend bool operator==(const EndLiteral&, const EndLiteral&) = default;
};

// Bytes of a class up to the first place where something that may follow starts.
struct alignas(64) TextScan {
  // What a scan reads as a rule lies in one cache line.
  alignas(16) std::uint8_t low[16];   // the stop bytes (not of the class, or an end may start there) as two
  alignas(16) std::uint8_t high[16];  // tables by the low four bits, for bytes below and from 0x80
  std::size_t at_least = 0;
  std::uint32_t other_byte =
      0;  // of the only end, within its first eight: one that differs from the first; or 0
  std::int16_t only_stop = -1;   // the only stop byte, if there is just one
  bool is_short = false;         // as a rule: a word rather than a path or a sentence
  std::vector<EndLiteral> ends;  // that start with a byte of the class; others need no look
  std::size_t at_most = SIZE_MAX;
  ByteClass delimiters;          // single bytes that may follow (blanks)
  std::uint8_t flags[256] = {};  // bit 0: of the class; bit 1: an end may start here
  std::string description;
  void prepare(const ByteClass& bytes);  // fills the tables from the rest
  bool ends_by_class() const { return ends.empty() && delimiters.empty(); }
};

// A typed scanner as one place of a template uses it.
struct LexemeUse {
  enum class Fast : std::uint8_t { none, integer, decimal, ip, clf_time };
  LexemeScan scan = nullptr;
  std::shared_ptr<const void> settings;  // what the parameters said; handed to `scan`
  Fast fast = Fast::none;
  bool ranged = false;  // the value must lie within [low, high]
  double low = 0, high = 0;
  std::string description;
  bool within(const Value& value) const {
    return !ranged || (value.as_number() >= low && value.as_number() <= high);
  }
};

struct RegexUse {
  Regex regex;
  Kind kind = Kind::text;
  std::string description;
  std::vector<std::pair<std::size_t, std::int16_t>> groups;  // that are kept: number and slot
};

// A pattern that brings fields of its own (CSV columns, the parts of a URI) or any fields (JSON, pairs).
struct FieldsUse {
  std::shared_ptr<const FieldScan> scan;
  std::vector<std::int16_t> slots;  // of its columns; -1: not kept
  std::string prefix;               // of the names of what it finds
  bool as_map = false;              // all of it as one value
  bool brings_found = false;        // what the text names goes to the context's list
  std::string description;
};

struct Instruction {
  enum class Code : std::uint8_t {
    nothing,  // only the literal behind it
    literal,
    any_case,
    integer,
    decimal,
    ip,
    clf_time,
    lexeme,
    run,   // a text that ends where its class does
    find,  // a text of any bytes up to a literal, which is the tail
    text,
    rest,
    regex,
    blanks,
    fields,
    optional,
    choice,
    span,
    done,
  };
  Code code = Code::nothing;
  std::uint8_t tail_length = 0;  // bytes of the literal that must follow
  std::int16_t slot = -1;
  std::uint32_t operand = 0;
  std::uint32_t next = 0;                                  // index of the instruction that follows
  std::uint32_t element = kNoElement;                      // that it begins with
  static constexpr std::uint32_t kNoElement = UINT32_MAX;  // it begins within one
  std::uint64_t tail = 0, mask = 0;
};
static_assert(sizeof(Instruction) == 32);

struct Program;
struct MatchState;
// Runs the instructions from `start` to their `done`. Answers where they end in the line, or nullptr.
// A wide one may load kReadAhead bytes beyond the line's end.
inline constexpr std::ptrdiff_t kReadAhead = 64 + 8;
using Runner = const char* (*)(const Program& program, std::uint32_t start, const char* at,
                               MatchState& state);
struct NamedRunner {
  const char* name;  // "avx2", "portable"
  Runner run;
  bool reads_ahead;
};
std::span<const NamedRunner> runners();  // that this processor can use, the fastest first
// The fastest for a line behind which the context says so much is readable.
inline const NamedRunner& runner_for(std::string_view line, const MatchContext& context) {
  static const NamedRunner best = runners().front(), careful = runners().back();
  const bool room =
      context.readable != nullptr && context.readable - (line.data() + line.size()) >= kReadAhead;
  return room ? best : careful;
}

struct Element {
  enum class Op : std::uint8_t {
    literal,
    any_case,
    lexeme,
    text,
    rest,
    regex,
    blanks,
    fields,
    optional,
    choice,
    span
  };
  Op op = Op::literal;
  std::int16_t slot = -1;     // where the value goes; -1: nowhere
  std::uint32_t operand = 0;  // index into the table of its op
  std::uint32_t next = 0;     // the element that follows; optional, choice, span: behind all of their parts
  std::uint32_t offset = 0, length = 0;  // of its source in the template's text
};

struct ElementRange {
  std::uint32_t first, last;  // [first, last)
};

struct Program {
  std::vector<Element> elements;
  std::vector<std::string> literals;  // any_case: in lower case
  std::vector<LexemeUse> lexemes;
  std::vector<TextScan> texts;
  std::vector<RegexUse> regexes;
  std::vector<FieldsUse> fields;
  std::vector<std::vector<ElementRange>> branches;

  std::vector<Instruction> code;
  std::vector<std::vector<std::uint32_t>> branch_starts;  // by the operand of optional and choice
  bool clears = false;                                    // some slots may stay untouched by a match
  // Neither optional parts nor alternatives: where it stops is as far as it came.
  bool is_straight() const { return branches.empty(); }

  std::size_t slots = 0;  // the one behind them takes what is not kept

  // Makes `code` from the elements [first, last) at their end; answers where it starts.
  std::uint32_t fuse(std::uint32_t first, std::uint32_t last);
  // Forgets what the elements of a branch that failed have set.
  void clear(ElementRange range, Value* values) const;
};

// The state of one match.
struct MatchState {
  const char* end;  // of the line
  const MatchContext& context;
  Value* values;
  std::uint64_t work = 0;  // bytes that texts went over; beyond `limit` no further alternative is tried
  std::uint64_t limit;
  bool too_expensive = false;
  const Instruction* stopped = nullptr;  // that failed last, and where it began
  const char* stopped_at = nullptr;
  MatchState(std::string_view line, const MatchContext& c, Value* v)
      : end(line.data() + line.size()), context(c), values(v), limit(4096 + 16 * line.size()) {}
};

// The same over elements, without haste: where explaining must agree with matching.
const char* text_end(const TextScan& scan, const char* at, const char* end);
bool starts_with(const char* at, const char* end, std::string_view literal);
bool starts_with_any_case(const char* at, const char* end, std::string_view lower);
// Runs what a fields pattern scans and stores its columns. `at` must not be nullptr.
const char* run_fields(const FieldsUse& use, const char* at, MatchState& state, Value* whole);

}  // namespace dingle

// Conditions on events: the search condition of SQL (ISO/IEC 9075-2, 8.21), with fields for columns.
//
//   auto c = Condition::parse("status >= 500 and url.path like '/gate/%' and user is not null");
//   if (!c) return c.problem();                       // with the place in the text
//   c->evaluate(reader) == Truth::yes
//
// Beyond the standard: dotted names need no quotes; `field matches 'regex'` (PCRE2, anywhere in the text);
// `mentions 'words'` (every word, any case, in the body or any text field) and `field mentions 'words'`; a boolean
// field may stand alone. A field that an event lacks is null, and comparisons with null are unknown, as in
// SQL. Values may be expressions (core/condition/expression.h) on either side. Values compare by type: numbers as numbers, timestamps and addresses with their written form; a text
// compares with a number if it is one as a whole, and is unknown otherwise. Immutable once parsed; many
// threads may evaluate it. Evaluating allocates nothing but for timestamps against texts, and what expressions make.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "core/condition/words.h"
#include "core/names.h"
#include "core/result.h"
#include "core/template/regex.h"
#include "core/value.h"

namespace dingle {

enum class Truth : std::uint8_t { no, yes, unknown };

// How a condition looks at an event, wherever that is kept.
class FieldReader {
 public:
  virtual ~FieldReader() = default;
  virtual Value get(FieldId field) const = 0;
  // Calls `test` with the body and then with each text field until it answers true; whether it did.
  virtual bool any_text(const std::function<bool(std::string_view)>& test) const = 0;
};

enum class Comparison : std::uint8_t { equal, not_equal, less, less_or_equal, greater, greater_or_equal };

// A literal, with the other readings that its text allows.
struct Literal {
  Value value;  // a text points into the condition
  std::optional<double> number;
  std::optional<std::int64_t> integer;  // where the number is one
  std::optional<std::int64_t> instant;
  std::optional<std::array<unsigned char, 16>> address;
};

class Condition {
 public:
  Condition();  // always true
  static Result<Condition> parse(std::string_view text);

  Truth evaluate(const FieldReader& event) const;
  bool holds(const FieldReader& event) const { return evaluate(event) == Truth::yes; }

  // What a store needs to leave out whole blocks: every event for which the condition holds satisfies all of
  // these.
  struct Bound {
    FieldId field;
    Comparison comparison;
    Literal literal;
  };
  const std::vector<Bound>& bounds() const;
  const std::vector<std::string>& required_words() const;  // lower case; anywhere in the event's texts
  const std::vector<FieldId>& fields() const;              // all that it reads
  bool reads_all_texts() const;                            // mentions 'words' without a field
  const std::string& text() const;

  struct Node;
  struct Tree;

 private:
  explicit Condition(std::shared_ptr<const Tree> tree);
  friend class ConditionParser;
  std::shared_ptr<const Tree> tree_;
};

// The order of a value against a literal: negative, 0, positive; nothing if they do not compare.
std::optional<int> compare(const Value& value, const Literal& literal);
Literal make_literal(Value value);
// The order of two values, for sorting and for `a < b` on two fields.
std::optional<int> compare(const Value& a, const Value& b);

}  // namespace dingle

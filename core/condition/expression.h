// Value expressions of SQL (ISO/IEC 9075-2, 6.28) over the fields of an event:
//
//   auto e = Expression::parse("coalesce(user, 'nobody') || '@' || lower(host.name)");
//   if (!e) return e.problem();                       // with the place in the text
//   const Value v = e->evaluate(reader, arena, fault);
//
// Arithmetic, `||`, `case`, functions (core/condition/functions.h), and conditions as boolean values; fields that an event
// lacks are null, and what is made of null is null but for `coalesce`, `nullif` and `case`. docs/conditions.md has all of it.
// Immutable once parsed; many threads may evaluate it.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "core/arena.h"
#include "core/condition/condition.h"

namespace dingle {

class Expression {
 public:
  static Result<Expression> parse(std::string_view text);

  // Absent for null. Texts are views into the event, the expression or `arena`. Where there is no value though nothing is null
  // (division by zero, a text that is no number), `fault` says so: a constant text, without anything of the event.
  Value evaluate(const FieldReader& event, Arena& arena, std::string_view& fault) const;
  const std::vector<FieldId>& fields() const;  // all that it reads
  const std::string& text() const;

 private:
  explicit Expression(std::shared_ptr<const Condition::Tree> tree) : tree_(std::move(tree)) {}
  friend class ConditionParser;
  std::shared_ptr<const Condition::Tree> tree_;
};

}  // namespace dingle

#include "core/condition/condition.h"

#include <cmath>
#include <cstring>

#include "core/condition/tree.h"
#include "core/template/lexemes.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

template <class T>
int order(const T& a, const T& b) {
  return a < b ? -1 : b < a ? 1 : 0;
}

// Exact, also where a double cannot hold the integer.
std::optional<int> order_numbers(std::int64_t a, double b) {
  if (std::isnan(b)) return std::nullopt;
  if (b >= 0x1p63) return -1;
  if (b < -0x1p63) return 1;
  const auto whole = static_cast<std::int64_t>(b);
  if (a != whole) return order(a, whole);
  return -order(b - static_cast<double>(whole), 0.0);
}

std::optional<int> order_numbers(double a, double b) {
  if (std::isnan(a) || std::isnan(b)) return std::nullopt;
  return order(a, b);
}

std::optional<int> negated(std::optional<int> order) { return order ? std::optional(-*order) : order; }

// A time that a text names; not what is relative to now: a condition has no clock.
std::optional<std::int64_t> fixed_moment(std::string_view text) {
  if (text == "now" || parse_duration(text)) return std::nullopt;
  return parse_moment(text, 0);
}

}  // namespace

Literal make_literal(Value value) {
  Literal literal;
  literal.value = value;
  if (value.is_number()) literal.number = value.as_number();
  if (value.kind() == Kind::integer) literal.integer = value.as_integer();
  if (value.kind() == Kind::timestamp) literal.instant = value.as_integer();
  if (value.is_textual()) {
    MatchContext context;
    if (Value v = convert_text(value.as_text(), Kind::decimal, context); !v.absent())
      literal.number = v.as_decimal();
    if (Value v = convert_text(value.as_text(), Kind::integer, context); !v.absent())
      literal.integer = v.as_integer();
    literal.instant = fixed_moment(value.as_text());
    std::array<unsigned char, 16> bytes;
    if (parse_ip(value.as_text(), bytes.data())) literal.address = bytes;
  }
  return literal;
}

std::optional<int> compare(const Value& v, const Literal& l) {
  switch (v.kind()) {
    case Kind::absent: return std::nullopt;
    case Kind::integer:
      if (l.value.kind() == Kind::integer) return order(v.as_integer(), l.value.as_integer());
      if (l.integer) return order(v.as_integer(), *l.integer);
      if (l.number) return order_numbers(v.as_integer(), *l.number);
      return std::nullopt;
    case Kind::decimal:
      if (l.integer) return negated(order_numbers(*l.integer, v.as_decimal()));
      return l.number ? order_numbers(v.as_decimal(), *l.number) : std::nullopt;
    case Kind::boolean:
      if (l.value.kind() == Kind::boolean) return order(v.as_boolean(), l.value.as_boolean());
      if (l.value.is_textual() && (l.value.as_text() == "true" || l.value.as_text() == "false"))
        return order(v.as_boolean(), l.value.as_text() == "true");
      return std::nullopt;
    case Kind::timestamp:
      if (l.instant) return order(v.as_integer(), *l.instant);
      return std::nullopt;
    case Kind::ip:
      if (l.address) {
        std::array<unsigned char, 16> bytes;
        if (parse_ip(v.as_text(), bytes.data())) return order(bytes, *l.address);
      }
      if (l.value.is_textual()) return order(v.as_text(), l.value.as_text());
      return std::nullopt;
    case Kind::text:
    case Kind::list:
    case Kind::map:
      if (l.value.is_textual()) return order(v.as_text(), l.value.as_text());
      if (l.value.is_number() && v.as_text().size() <= 40) {
        Value number = convert_text(v.as_text(), Kind::integer, {});
        if (number.absent()) number = convert_text(v.as_text(), Kind::decimal, {});
        if (!number.absent()) return compare(number, l);
      }
      if (l.value.kind() == Kind::timestamp)
        if (auto instant = fixed_moment(v.as_text())) return order(*instant, *l.instant);
      return std::nullopt;
  }
  return std::nullopt;
}

std::optional<int> compare(const Value& a, const Value& b) {
  if (a.kind() == b.kind() || (a.is_number() && b.is_number())) {
    if (a.absent()) return std::nullopt;
    if (a.kind() == Kind::ip) return compare(a, make_literal(b));
    if (a.is_textual()) return order(a.as_text(), b.as_text());
    if (a.kind() == Kind::decimal && b.kind() == Kind::decimal)
      return order_numbers(a.as_decimal(), b.as_decimal());
    if (b.kind() == Kind::decimal) return order_numbers(a.as_integer(), b.as_decimal());
    if (a.kind() == Kind::decimal) return negated(order_numbers(b.as_integer(), a.as_decimal()));
    return order(a.as_integer(), b.as_integer());
  }
  return b.absent() ? std::nullopt : compare(a, make_literal(b));
}

Condition::Condition() {
  static const std::shared_ptr<const Tree> always = [] {
    auto tree = std::make_shared<Tree>();
    tree->nodes.emplace_back();
    return tree;
  }();
  tree_ = always;
}
Condition::Condition(std::shared_ptr<const Tree> tree) : tree_(std::move(tree)) {}

Truth Condition::evaluate(const FieldReader& event) const {
  if (!tree_->makes_values) return Evaluation{*tree_, event, nullptr}.truth(tree_->root);
  Arena made;
  return Evaluation{*tree_, event, &made}.truth(tree_->root);
}
const std::vector<Condition::Bound>& Condition::bounds() const { return tree_->bounds; }
const std::vector<std::string>& Condition::required_words() const { return tree_->required_words; }
const std::vector<FieldId>& Condition::fields() const { return tree_->fields; }
bool Condition::reads_all_texts() const { return tree_->reads_all_texts; }
const std::string& Condition::text() const { return tree_->text; }

}  // namespace dingle

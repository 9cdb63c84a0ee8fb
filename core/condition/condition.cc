#include "core/condition/condition.h"

#include <cmath>
#include <cstring>

#include "core/condition/tree.h"
#include "core/template/lexemes.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

Truth truth(bool b) { return b ? Truth::yes : Truth::no; }

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

bool satisfies(int order, Comparison c) {
  switch (c) {
    case Comparison::equal: return order == 0;
    case Comparison::not_equal: return order != 0;
    case Comparison::less: return order < 0;
    case Comparison::less_or_equal: return order <= 0;
    case Comparison::greater: return order > 0;
    case Comparison::greater_or_equal: return order >= 0;
  }
  return false;
}

// SQL's LIKE (ISO 9075-2, 8.5) on bytes: `%` any run, `_` any one character (of UTF-8). Linear but for the
// retries of the last `%`: at most text times pattern.
bool like(std::string_view text, std::string_view pattern, char escape) {
  std::size_t t = 0, p = 0, star = std::string_view::npos, star_text = 0;
  auto is_escaped = [&](std::size_t i) {
    return escape != '\0' && pattern[i] == escape && i + 1 < pattern.size();
  };
  while (t < text.size()) {
    if (p < pattern.size() && is_escaped(p) && text[t] == pattern[p + 1]) {
      ++t, p += 2;
    } else if (p < pattern.size() && !is_escaped(p) && pattern[p] == '%') {
      star = p++, star_text = t;
    } else if (p < pattern.size() && !is_escaped(p) && pattern[p] == '_') {
      ++t, ++p;
      while (t < text.size() && (static_cast<unsigned char>(text[t]) & 0xC0) == 0x80) ++t;
    } else if (p < pattern.size() && !is_escaped(p) && pattern[p] == text[t]) {
      ++t, ++p;
    } else if (star != std::string_view::npos) {
      p = star + 1, t = ++star_text;
    } else {
      return false;
    }
  }
  while (p < pattern.size() && pattern[p] == '%') ++p;
  return p == pattern.size();
}

// The text of a value for like, matches and mentions; numbers in their shortest form, kept in `holder`.
std::string_view text_of(const Value& v, std::string& holder) {
  if (v.is_textual()) return v.as_text();
  holder = v.to_string();
  return holder;
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

namespace {

Truth evaluate(const std::vector<Condition::Node>& nodes, std::uint32_t index, const FieldReader& event) {
  const Condition::Node& n = nodes[index];
  using Form = Condition::Node::Form;
  std::string holder;
  switch (n.form) {
    case Form::constant: return n.constant;
    case Form::both: {
      Truth left = evaluate(nodes, n.left, event);
      if (left == Truth::no) return Truth::no;
      Truth right = evaluate(nodes, n.right, event);
      return right == Truth::no ? Truth::no : left == Truth::yes ? right : Truth::unknown;
    }
    case Form::either: {
      Truth left = evaluate(nodes, n.left, event);
      if (left == Truth::yes) return Truth::yes;
      Truth right = evaluate(nodes, n.right, event);
      return right == Truth::yes ? Truth::yes : left == Truth::no ? right : Truth::unknown;
    }
    case Form::negation: {
      Truth inner = evaluate(nodes, n.left, event);
      return inner == Truth::unknown ? inner : truth(inner == Truth::no);
    }
    case Form::compare: {
      auto o = compare(event.get(n.field), n.literals[0]);
      return o ? truth(satisfies(*o, n.comparison)) : Truth::unknown;
    }
    case Form::compare_fields: {
      auto o = compare(event.get(n.field), event.get(n.other));
      return o ? truth(satisfies(*o, n.comparison)) : Truth::unknown;
    }
    case Form::in: {
      Value v = event.get(n.field);
      if (v.absent()) return Truth::unknown;
      bool compared = false;
      for (const Literal& literal : n.literals)
        if (auto o = compare(v, literal)) {
          if (*o == 0) return Truth::yes;
          compared = true;
        }
      return compared ? Truth::no : Truth::unknown;
    }
    case Form::is_null: return truth(event.get(n.field).absent());
    case Form::field:
    case Form::is_truth: {
      Value v = event.get(n.field);
      Truth is = v.kind() == Kind::boolean ? truth(v.as_boolean()) : Truth::unknown;
      if (v.kind() == Kind::text && (v.as_text() == "true" || v.as_text() == "false"))
        is = truth(v.as_text() == "true");
      // Alone it is unknown for events that lack it (ISO 9075-2, 6.39); `is true` is never unknown.
      return n.form == Form::field ? is : truth(is == n.constant);
    }
    case Form::like: {
      Value v = event.get(n.field);
      return v.absent() ? Truth::unknown : truth(like(text_of(v, holder), n.pattern, n.escape));
    }
    case Form::matches: {
      Value v = event.get(n.field);
      if (v.absent()) return Truth::unknown;
      std::size_t from, to;
      Regex::Outcome outcome = n.regex->match(text_of(v, holder), &from, &to);
      return outcome == Regex::Outcome::too_expensive ? Truth::unknown
                                                      : truth(outcome == Regex::Outcome::match);
    }
    case Form::mentions: {
      if (n.field != kNoField) {
        Value v = event.get(n.field);
        return v.absent() ? Truth::unknown : truth(n.words->all_in(text_of(v, holder)));
      }
      for (std::size_t piece = 0; piece < n.words->pieces(); ++piece)
        if (!event.any_text([&](std::string_view text) { return n.words->piece_in(piece, text); }))
          return Truth::no;
      return Truth::yes;
    }
  }
  return Truth::unknown;
}

}  // namespace

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
  return dingle::evaluate(tree_->nodes, tree_->root, event);
}
const std::vector<Condition::Bound>& Condition::bounds() const { return tree_->bounds; }
const std::vector<std::string>& Condition::required_words() const { return tree_->required_words; }
const std::vector<FieldId>& Condition::fields() const { return tree_->fields; }
bool Condition::reads_all_texts() const { return tree_->reads_all_texts; }
const std::string& Condition::text() const { return tree_->text; }

}  // namespace dingle

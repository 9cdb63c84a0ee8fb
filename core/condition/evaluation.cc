// What conditions and expressions come to.
#include "core/condition/tree.h"

namespace dingle {
namespace {

Truth is(bool b) { return b ? Truth::yes : Truth::no; }

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

// Few values beside each other, without memory of their own.
class Values {
 public:
  explicit Values(std::size_t size) : size_(size) {
    if (size > few_.size()) many_.resize(size);
  }
  std::span<Value> all() { return {size_ > few_.size() ? many_.data() : few_.data(), size_}; }

 private:
  std::array<Value, 8> few_;
  std::vector<Value> many_;
  std::size_t size_;
};

}  // namespace

Value Evaluation::subject(const Condition::Node& n) {
  return n.field != kNoField ? event.get(n.field) : value(n.operand);
}

Truth Evaluation::truth(std::uint32_t index) {
  const Condition::Node& n = tree.nodes[index];
  using Form = Condition::Node::Form;
  std::string holder;
  switch (n.form) {
    case Form::constant: return n.constant;
    case Form::both: {
      Truth left = truth(n.left);
      if (left == Truth::no) return Truth::no;
      Truth right = truth(n.right);
      return right == Truth::no ? Truth::no : left == Truth::yes ? right : Truth::unknown;
    }
    case Form::either: {
      Truth left = truth(n.left);
      if (left == Truth::yes) return Truth::yes;
      Truth right = truth(n.right);
      return right == Truth::yes ? Truth::yes : left == Truth::no ? right : Truth::unknown;
    }
    case Form::negation: {
      Truth inner = truth(n.left);
      return inner == Truth::unknown ? inner : is(inner == Truth::no);
    }
    case Form::compare: {
      auto o = compare(subject(n), n.literals[0]);
      return o ? is(satisfies(*o, n.comparison)) : Truth::unknown;
    }
    case Form::compare_operands: {
      auto o = compare(value(n.left), value(n.right));
      return o ? is(satisfies(*o, n.comparison)) : Truth::unknown;
    }
    case Form::in: {
      Value v = subject(n);
      if (v.absent()) return Truth::unknown;
      bool compared = false;
      for (const Literal& literal : n.literals)
        if (auto o = compare(v, literal)) {
          if (*o == 0) return Truth::yes;
          compared = true;
        }
      return compared ? Truth::no : Truth::unknown;
    }
    case Form::is_null: return is(subject(n).absent());
    case Form::alone:
    case Form::is_truth: {
      Value v = subject(n);
      Truth held = v.kind() == Kind::boolean ? is(v.as_boolean()) : Truth::unknown;
      if (v.kind() == Kind::text && (v.as_text() == "true" || v.as_text() == "false"))
        held = is(v.as_text() == "true");
      // Alone it is unknown for events that lack it (ISO 9075-2, 6.39); `is true` is never unknown.
      return n.form == Form::alone ? held : is(held == n.constant);
    }
    case Form::like: {
      Value v = subject(n);
      return v.absent() ? Truth::unknown : is(like(text_of(v, holder), n.pattern, n.escape));
    }
    case Form::matches: {
      Value v = subject(n);
      if (v.absent()) return Truth::unknown;
      std::size_t from, to;
      Regex::Outcome outcome = n.regex->match(text_of(v, holder), &from, &to);
      return outcome == Regex::Outcome::too_expensive ? Truth::unknown : is(outcome == Regex::Outcome::match);
    }
    case Form::in_table: {
      const Value v = subject(n);
      const auto rows = n.table->now();
      return v.absent() || rows == nullptr ? Truth::unknown : is(rows->contains(text_of(v, holder)));
    }
    case Form::mentions: {
      if (n.field != kNoField || n.operand != kNoOperand) {
        Value v = subject(n);
        return v.absent() ? Truth::unknown : is(n.words->all_in(text_of(v, holder)));
      }
      for (std::size_t piece = 0; piece < n.words->pieces(); ++piece)
        if (!event.any_text([&](std::string_view text) { return n.words->piece_in(piece, text); }))
          return Truth::no;
      return Truth::yes;
    }
  }
  return Truth::unknown;
}

Value Evaluation::value(std::uint32_t index) {
  const Operand& o = tree.operands[index];
  switch (o.form) {
    case Operand::Form::constant: return o.constant;
    case Operand::Form::field: return event.get(o.field);
    case Operand::Form::truth: {
      const Truth t = truth(o.arguments[0]);
      return t == Truth::unknown ? Value() : Value::boolean(t == Truth::yes);
    }
    case Operand::Form::coalesce:
      for (const std::uint32_t argument : o.arguments)
        if (const Value v = value(argument); !v.absent()) return v;
      return {};
    case Operand::Form::choose: {
      std::size_t i = 0;
      for (; i + 1 < o.arguments.size(); i += 2)
        if (truth(o.arguments[i]) == Truth::yes) return value(o.arguments[i + 1]);
      return i < o.arguments.size() ? value(o.arguments[i]) : Value();
    }
    case Operand::Form::call: break;
  }
  Values values(o.arguments.size());
  for (std::size_t i = 0; i < o.arguments.size(); ++i) values.all()[i] = value(o.arguments[i]);
  std::string_view why;
  const Value made = call(o.function, values.all(), tree.details[o.detail], *arena, why);
  if (fault.empty()) fault = why;
  return made;
}

Value Expression::evaluate(const FieldReader& event, Arena& arena, std::string_view& fault) const {
  Evaluation evaluation{*tree_, event, &arena};
  const Value made = evaluation.value(tree_->root);
  if (made.absent()) fault = evaluation.fault;
  return made;
}
const std::vector<FieldId>& Expression::fields() const { return tree_->fields; }
const std::string& Expression::text() const { return tree_->text; }

}  // namespace dingle

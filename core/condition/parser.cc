// Parses conditions and value expressions by recursive descent; the grammar is in docs/conditions.md.
#include <algorithm>

#include "core/condition/value_parser.h"
#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {
class ConditionParser final : public ValueParser {
 public:
  using ValueParser::ValueParser;

  Result<Condition> condition() {
    Part part;
    if (!whole(part, "for instance: status >= 500") || !to_truth(part)) return problem_;
    tree_->root = part.index;
    collect(part.index);
    return Condition(tree_);
  }
  Result<Expression> expression() {
    Part part;
    if (!whole(part, "for instance: load_kg / 1000.0") || !to_value(part)) return problem_;
    tree_->root = part.index;
    return Expression(tree_);
  }

 private:
  using Node = Condition::Node;
  using Form = Condition::Node::Form;

  bool whole(Part& out, const char* example) {
    if (text_.size() > kLongestCondition)
      return fail(std::string("the ") + what_ + " is longer than 20000 bytes", "", kLongestCondition, 1);
    if (!advance()) return false;
    if (token_.form == Token::Form::end)
      return fail(std::string("the ") + what_ + " is empty", example, 0, 0);
    if (!either(out, 0)) return false;
    if (token_.form == Token::Form::end) return true;
    const std::string found = lower_ascii_text(token_.text);
    return expected(std::string("`and`, `or` or the end of the ") + what_,
                    found == "==" ? "SQL compares with a single ="
                    : joined_     ? "`||` joins texts: between conditions SQL writes `or`"
                                  : did_you_mean(found, {"and", "or"}));
  }

  bool to_truth(Part& part) override {
    if (part.is_truth) return true;
    const Operand& o = at(part);
    Node node;
    if (o.form == Operand::Form::constant && o.constant.kind() == Kind::boolean) {
      node.constant = o.constant.as_boolean() ? Truth::yes : Truth::no;
    } else if (o.form == Operand::Form::truth) {
      part.index = o.arguments[0];
      part.is_truth = true;
      return true;
    } else if (o.form == Operand::Form::constant || result_kind_of(o) == Kind::text ||
               result_kind_of(o) == Kind::integer) {
      return fail("expected a condition, found a value",
                  o.form == Operand::Form::constant && o.constant.is_textual()
                      ? "names stand without quotes or in double quotes: a condition starts with a field"
                  : joined_ ? "`||` joins texts: between conditions SQL writes `or`"
                            : "compare it: =, <>, <, <=, >, >=, in, between, like, is, matches or mentions",
                  part.offset, std::max<std::size_t>(1, last_end_ - part.offset));
    } else {
      node.form = Form::alone;
      subject(part, node);
    }
    part.index = add(std::move(node));
    part.is_truth = true;
    return true;
  }
  void subject(const Part& part, Node& node) const {
    if (at(part).form == Operand::Form::field)
      node.field = at(part).field;
    else
      node.operand = part.index;
  }

  std::uint32_t add(Node node) {
    const auto& nodes = tree_->nodes;
    const auto& operands = tree_->operands;
    if (node.form == Form::both || node.form == Form::either || node.form == Form::negation)
      node.depth = std::max(nodes[node.left].depth, nodes[node.right].depth);
    else if (node.form == Form::compare_operands)
      node.depth = std::max(operands[node.left].depth, operands[node.right].depth);
    else if (node.operand != kNoOperand)
      node.depth = operands[node.operand].depth;
    tree_->nodes.push_back(std::move(node));
    return static_cast<std::uint32_t>(tree_->nodes.size() - 1);
  }
  std::uint32_t add(Form form, std::uint32_t left, std::uint32_t right) {
    Node node;
    node.form = form, node.left = left, node.right = right;
    return add(std::move(node));
  }

  // ---- truth values ----
  bool either(Part& out, std::size_t depth) override { return joined("or", Form::either, out, depth); }
  bool joined(const char* word, Form form, Part& out, std::size_t depth) {
    const auto inner = [&](Part& part) {
      return form == Form::either ? joined("and", Form::both, part, depth) : negation(part, depth);
    };
    if (!inner(out)) return false;
    while (is_word(word)) {
      Part right;
      if (!to_truth(out) || !advance() || !inner(right) || !to_truth(right)) return false;
      out.index = add(form, out.index, right.index);
    }
    if (is_sign("||")) return expected("`or`", "SQL writes `or`");
    if (is_sign("&&")) return expected("`and`", "SQL writes `and`");
    return true;
  }
  bool negation(Part& out, std::size_t depth) {
    if (depth > kDeepestCondition)
      return fail(std::string("the ") + what_ + " is nested too deeply", "", token_.offset, 1);
    if (is_sign("!")) return expected("a condition", "SQL writes `not`");
    if (!is_word("not")) return predicate(out, depth);
    const std::size_t offset = token_.offset;
    if (!advance() || !negation(out, depth + 1) || !to_truth(out)) return false;
    out.index = add(Form::negation, out.index, out.index);
    out.offset = offset;
    return true;
  }
  bool predicate(Part& out, std::size_t depth) {
    out.offset = token_.offset;
    if (is_word("mentions") && !follows('(')) {
      if (!advance()) return false;
      tree_->reads_all_texts = true;
      Node node;
      out.is_truth = true;
      return mentions(node, out.index);
    }
    if (!sum(out, depth)) return false;
    // Of a condition in parentheses only `is` and comparisons say more.
    Node node;
    if (is_word("is")) return to_value(out) && is(out);
    bool negated = is_word("not");
    if (negated && !advance()) return false;
    static const std::vector<std::string> kOperators{"in", "between", "like", "matches", "mentions"};
    const bool one =
        token_.form == Token::Form::name &&
        std::find(kOperators.begin(), kOperators.end(), lower_ascii_text(token_.text)) != kOperators.end();
    if (!one && negated) return expected("`in`, `between`, `like`, `matches` or `mentions`");
    if (!one) return comparison(out, depth);
    if (!to_value(out)) return false;
    subject(out, node);
    const Part left = out;
    out.is_truth = true;
    const bool ok = is_word("in")        ? in(left, node, out.index, depth)
                    : is_word("between") ? between(left, out.index, depth)
                    : is_word("like")    ? like(node, out.index)
                    : is_word("matches") ? matches(node, out.index)
                                         : advance() && mentions(node, out.index);
    if (ok && negated) out.index = add(Form::negation, out.index, out.index);
    return ok;
  }
  bool is(Part& out) {
    Node node;
    subject(out, node);
    if (!advance()) return false;
    const bool negated = is_word("not");
    if (negated && !advance()) return false;
    if (is_word("null"))
      node.form = Form::is_null;
    else if (is_word("true") || is_word("false") || is_word("unknown")) {
      node.form = Form::is_truth;
      node.constant = is_word("true") ? Truth::yes : is_word("false") ? Truth::no : Truth::unknown;
    } else
      return expected("`null`, `true`, `false` or `unknown`",
                      did_you_mean(lower_ascii_text(token_.text), {"null", "true", "false", "unknown"}));
    out.index = add(std::move(node));
    out.is_truth = true;
    if (negated) out.index = add(Form::negation, out.index, out.index);
    return advance();
  }
  bool comparison(Part& out, std::size_t depth) {
    static constexpr std::pair<const char*, Comparison> kSigns[] = {
        {"=", Comparison::equal},   {"<>", Comparison::not_equal},
        {"<", Comparison::less},    {"<=", Comparison::less_or_equal},
        {">", Comparison::greater}, {">=", Comparison::greater_or_equal}};
    for (auto [sign, comparison] : kSigns)
      if (is_sign(sign)) {
        if (!advance() || !to_value(out)) return false;
        Part right;
        if (!compared(out, right, depth)) return false;
        out.index = compare_parts(out, comparison, right);
        out.is_truth = true;
        return true;
      }
    if (is_sign("==")) return expected("a comparison", "SQL compares with a single =");
    if (is_sign("!=")) return expected("a comparison", "SQL writes <> for `is not equal`");
    const bool field = !out.is_truth && at(out).form == Operand::Form::field;
    if (field &&
        (token_.form == Token::Form::name || token_.form == Token::Form::text ||
         token_.form == Token::Form::number || token_.form == Token::Form::quoted_name || is_sign("(")) &&
        !ends_here())
      return expected("a comparison after the field",
                      token_.form == Token::Form::name
                          ? did_you_mean(lower_ascii_text(token_.text), reserved_words())
                          : "=, <>, <, <=, >, >=, in, between, like, is, matches or mentions");
    return true;
  }
  // Words that follow a value in some form of the grammar.
  bool ends_here() const {
    for (const char* word : {"and", "or", "then", "when", "else", "end", "from", "for", "as", "at"})
      if (is_word(word)) return true;
    return false;
  }
  // The right side of a comparison.
  bool compared(const Part& left, Part& right, std::size_t depth) override {
    const Token first = token_;
    const bool of_time = at(left).form == Operand::Form::field &&
                         (at(left).field == names::timestamp || at(left).field == names::observed_timestamp);
    if (is_word("null")) return expected("a value", "SQL tests for null with `is null`");
    if (!sum(right, depth)) return false;
    if (!to_value(right)) return false;
    if (of_time && first.form == Token::Form::text && is_constant(right.index) &&
        (first.text == "now" || parse_duration(first.text)))
      return relative_time(first);
    return true;
  }
  std::uint32_t compare_parts(const Part& left, Comparison comparison, const Part& right) override {
    Node node;
    node.comparison = comparison;
    if (is_constant(right.index) && !at(right).constant.absent()) {
      node.form = Form::compare;
      subject(left, node);
      node.literals.push_back(make_literal(at(right).constant));
    } else if (is_constant(left.index) && !at(left).constant.absent()) {
      node.form = Form::compare;
      subject(right, node);
      node.comparison = comparison == Comparison::less               ? Comparison::greater
                        : comparison == Comparison::less_or_equal    ? Comparison::greater_or_equal
                        : comparison == Comparison::greater          ? Comparison::less
                        : comparison == Comparison::greater_or_equal ? Comparison::less_or_equal
                                                                     : comparison;
      node.literals.push_back(make_literal(at(left).constant));
    } else {
      node.form = Form::compare_operands;
      node.left = left.index, node.right = right.index;
    }
    return add(std::move(node));
  }
  bool in(const Part& left, Node& node, std::uint32_t& out, std::size_t depth) {
    if (!advance()) return false;
    if (is_word("table")) return in_table(node, out);
    if (!is_sign("(")) return expected("`(`", "for instance: status in (502, 503)");
    std::vector<Part> items;
    bool constant = true;
    do {
      if (!advance() || !compared(left, items.emplace_back(), depth + 1)) return false;
      constant = constant && is_constant(items.back().index) && !at(items.back()).constant.absent();
    } while (is_sign(","));
    if (!is_sign(")")) return expected("`,` or `)`");
    if (constant) {
      node.form = Form::in;
      for (const Part& item : items) node.literals.push_back(make_literal(at(item).constant));
      out = add(std::move(node));
    } else {
      out = compare_parts(left, Comparison::equal, items[0]);
      for (std::size_t i = 1; i < items.size(); ++i)
        out = add(Form::either, out, compare_parts(left, Comparison::equal, items[i]));
    }
    return advance();
  }
  bool in_table(Node& node, std::uint32_t& out) {
    if (!advance()) return false;
    if (token_.form != Token::Form::name && token_.form != Token::Form::quoted_name)
      return expected("a table's name");
    // A dash is part of it: nothing could be subtracted behind a predicate.
    const auto goes_on = [&](std::size_t i) {
      return i < text_.size() && (text_[i] == '-' || text_[i] == '_' || is_word_byte(text_[i]));
    };
    if (token_.form == Token::Form::name)
      for (; goes_on(at_); ++at_, ++token_.length) token_.text += text_[at_];
    auto table = TableScope::find(token_.text);
    if (!table) return fail(table.problem().message, table.problem().hint, token_.offset, token_.length);
    node.form = Form::in_table;
    node.table = *table;
    out = add(std::move(node));
    return advance();
  }
  bool between(const Part& left, std::uint32_t& out, std::size_t depth) {
    Part low, high;
    if (!advance() || !compared(left, low, depth)) return false;
    if (!is_word("and")) return expected("`and` and the upper value");
    if (!advance() || !compared(left, high, depth)) return false;
    const std::uint32_t from = compare_parts(left, Comparison::greater_or_equal, low);
    out = add(Form::both, from, compare_parts(left, Comparison::less_or_equal, high));
    return true;
  }
  bool like(Node& node, std::uint32_t& out) {
    if (!advance()) return false;
    if (token_.form != Token::Form::text)
      return expected("a text in single quotes", "% stands for any text, _ for one character");
    node.form = Form::like;
    node.pattern = token_.text;
    const Token pattern = token_;
    if (!advance()) return false;
    if (is_word("escape")) {
      if (!advance()) return false;
      if (token_.form != Token::Form::text || token_.text.size() != 1)
        return expected("one character in single quotes");
      node.escape = token_.text[0];
      for (std::size_t i = node.pattern.find(node.escape); i != std::string::npos;
           i = node.pattern.find(node.escape, i + 2))
        if (i + 1 == node.pattern.size() ||
            (node.pattern[i + 1] != '%' && node.pattern[i + 1] != '_' && node.pattern[i + 1] != node.escape))
          return fail("in the pattern, `" + token_.text + "` stands before what needs no escape",
                      "it stands before %, _ or itself (ISO 9075-2, 8.5)", pattern.offset, pattern.length);
      if (!advance()) return false;
    }
    out = add(std::move(node));
    return true;
  }
  bool matches(Node& node, std::uint32_t& out) {
    if (!advance()) return false;
    if (token_.form != Token::Form::text) return expected("a regex in single quotes");
    auto regex = Regex::compile(token_.text, Regex::Where::anywhere);
    if (!regex)
      return fail(regex.problem().message, regex.problem().hint, token_.offset + 1 + regex.problem().offset,
                  1);
    node.form = Form::matches;
    node.regex = std::move(*regex);
    out = add(std::move(node));
    return advance();
  }
  bool mentions(Node& node, std::uint32_t& out) {
    if (token_.form != Token::Form::text)
      return expected("words in single quotes", "for instance: mentions 'berth occupied'");
    node.form = Form::mentions;
    node.words.emplace(token_.text);
    if (const auto at = node.words->unclosed())
      return fail("in these words, a double quote is not closed", "words in double quotes stand together",
                  token_.offset + 1 + *at, 1);
    if (node.words->pieces() == 0) return expected("at least one word", "a word has letters or digits");
    out = add(std::move(node));
    return advance();
  }

  // ---- what every event that satisfies the condition must have ----
  void collect(std::uint32_t index) {
    const Node& n = tree_->nodes[index];
    if (n.form == Form::both) {
      collect(n.left);
      collect(n.right);
    } else if (n.form == Form::compare && n.field != kNoField) {
      tree_->bounds.push_back({n.field, n.comparison, n.literals[0]});
      const Value& v = n.literals[0].value;
      // Not for other readings of the text: an address or a time may be written in several ways.
      if (n.comparison == Comparison::equal && v.kind() == Kind::text && !n.literals[0].number &&
          !n.literals[0].instant && !n.literals[0].address && v.as_text() != "true" && v.as_text() != "false")
        for_each_word(v.as_text(), [&](std::string_view word) {
          tree_->required_words.push_back(lower_ascii_text(word));
        });
    } else if (n.form == Form::mentions) {
      for (const std::string& word : n.words->words()) tree_->required_words.push_back(word);
    }
  }
};

Result<Condition> Condition::parse(std::string_view text) {
  return ConditionParser(text, "condition").condition();
}
Result<Expression> Expression::parse(std::string_view text) {
  return ConditionParser(text, "expression").expression();
}

}  // namespace dingle

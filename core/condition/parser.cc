// Parses conditions by recursive descent; the grammar is in docs/conditions.md.
#include <algorithm>
#include <charconv>

#include "core/condition/tree.h"
#include "core/nearest.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

struct Token {
  enum class Form { name, quoted_name, text, number, sign, end };
  Form form = Form::end;
  std::string text;  // a name as written; a string without quotes; a number; a sign
  std::size_t offset = 0, length = 0;
};

std::string lower(std::string_view text) {
  std::string out(text);
  std::transform(out.begin(), out.end(), out.begin(), lower_ascii);
  return out;
}

const std::vector<std::string> kWords{"and",   "or",      "not",     "in",       "between",
                                      "like",  "escape",  "is",      "null",     "true",
                                      "false", "unknown", "matches", "mentions", "timestamp"};

}  // namespace

class ConditionParser {
 public:
  explicit ConditionParser(std::string_view text) : text_(text), tree_(std::make_shared<Condition::Tree>()) {
    tree_->text = std::string(text);
  }

  Result<Condition> parse() {
    if (text_.size() > kLongestCondition)
      return Problem{"the condition is longer than 20000 bytes", "", kLongestCondition, 1};
    if (!advance()) return problem_;
    if (token_.form == Token::Form::end)
      return Problem{"the condition is empty", "for instance: status >= 500", 0, 0};
    std::uint32_t root = 0;
    if (!either(root, 0)) return problem_;
    if (token_.form != Token::Form::end) {
      expected("`and`, `or` or the end of the condition",
               lower(token_.text) == "==" ? "SQL compares with a single ="
                                          : did_you_mean(lower(token_.text), {"and", "or"}));
      return problem_;
    }
    tree_->root = root;
    collect(root);
    return Condition(tree_);
  }

 private:
  using Node = Condition::Node;
  using Form = Condition::Node::Form;

  // ---- tokens ----
  bool fail(std::string message, std::string hint, std::size_t offset, std::size_t length) {
    problem_ = {std::move(message), std::move(hint), offset, length};
    return false;
  }
  bool expected(const std::string& what, std::string hint = "") {
    std::string found = token_.form == Token::Form::end
                            ? "the end of the condition"
                            : "`" + std::string(text_.substr(token_.offset, token_.length)) + "`";
    return fail("expected " + what + ", found " + found, std::move(hint), token_.offset,
                std::max<std::size_t>(1, token_.length));
  }
  bool advance() {
    while (at_ < text_.size() && std::string_view(" \t\r\n").find(text_[at_]) != std::string_view::npos)
      ++at_;
    token_ = {};
    token_.offset = at_;
    if (at_ == text_.size()) return true;
    const char c = text_[at_];
    auto letter = [](char b) { return (lower_ascii(b) >= 'a' && lower_ascii(b) <= 'z') || b == '_'; };
    auto digit = [](char b) { return b >= '0' && b <= '9'; };
    std::size_t i = at_;
    if (c == '\'' || c == '"') {
      for (++i;; ++i) {
        if (i >= text_.size())
          return fail(c == '\'' ? "this text has no closing quote" : "this name has no closing quote",
                      "end it with " + std::string(1, c), at_, 1);
        if (text_[i] != c)
          token_.text += text_[i];
        else if (i + 1 < text_.size() && text_[i + 1] == c)
          token_.text += text_[i++];
        else
          break;
      }
      ++i;
      token_.form = c == '\'' ? Token::Form::text : Token::Form::quoted_name;
    } else if (letter(c)) {
      while (i < text_.size() &&
             (letter(text_[i]) || digit(text_[i]) ||
              (text_[i] == '.' && i + 1 < text_.size() && (letter(text_[i + 1]) || digit(text_[i + 1])))))
        ++i;
      token_.form = Token::Form::name;
      token_.text = std::string(text_.substr(at_, i - at_));
    } else if (digit(c) || ((c == '-' || c == '+' || c == '.') && i + 1 < text_.size() &&
                            (digit(text_[i + 1]) || text_[i + 1] == '.'))) {
      for (++i;
           i < text_.size() && (digit(text_[i]) || text_[i] == '.' || lower_ascii(text_[i]) == 'e' ||
                                ((text_[i] == '-' || text_[i] == '+') && lower_ascii(text_[i - 1]) == 'e'));)
        ++i;
      token_.form = Token::Form::number;
      token_.text = std::string(text_.substr(at_, i - at_));
    } else {
      for (std::string_view sign :
           {"<>", "!=", "<=", ">=", "==", "&&", "||", "=", "<", ">", "(", ")", ",", "!"})
        if (text_.substr(i, sign.size()) == sign) {
          token_.form = Token::Form::sign;
          token_.text = std::string(sign);
          i += sign.size();
          break;
        }
      if (token_.form != Token::Form::sign)
        return fail("unexpected `" + std::string(1, c) + "`",
                    c == ':' ? "conditions are SQL: field = 'value'" : "", at_, 1);
    }
    token_.length = i - at_;
    at_ = i;
    return true;
  }
  bool text_follows() const {
    const std::size_t next = text_.find_first_not_of(" \t\r\n", at_);
    return next != std::string_view::npos && text_[next] == '\'';
  }
  bool is_word(const char* word) const {
    return token_.form == Token::Form::name && lower(token_.text) == word;
  }
  bool is_sign(const char* sign) const { return token_.form == Token::Form::sign && token_.text == sign; }

  // ---- grammar ----
  std::uint32_t add(Node node) {
    tree_->nodes.push_back(std::move(node));
    return static_cast<std::uint32_t>(tree_->nodes.size() - 1);
  }
  std::uint32_t add(Form form, std::uint32_t left, std::uint32_t right) {
    Node node;
    node.form = form, node.left = left, node.right = right;
    return add(std::move(node));
  }
  bool either(std::uint32_t& out, std::size_t depth) {
    if (!both(out, depth)) return false;
    while (is_word("or")) {
      std::uint32_t right = 0;
      if (!advance() || !both(right, depth)) return false;
      out = add(Form::either, out, right);
    }
    if (is_sign("||")) return expected("`or`", "SQL writes `or`");
    return true;
  }
  bool both(std::uint32_t& out, std::size_t depth) {
    if (!negation(out, depth)) return false;
    while (is_word("and")) {
      std::uint32_t right = 0;
      if (!advance() || !negation(right, depth)) return false;
      out = add(Form::both, out, right);
    }
    if (is_sign("&&")) return expected("`and`", "SQL writes `and`");
    return true;
  }
  bool negation(std::uint32_t& out, std::size_t depth) {
    if (depth > kDeepestCondition) return fail("the condition is nested too deeply", "", token_.offset, 1);
    if (is_sign("!")) return expected("a condition", "SQL writes `not`");
    if (!is_word("not")) return primary(out, depth);
    if (!advance() || !negation(out, depth + 1)) return false;
    out = add(Form::negation, out, 0);
    return true;
  }
  bool primary(std::uint32_t& out, std::size_t depth) {
    if (is_sign("(")) {
      if (!advance() || !either(out, depth + 1)) return false;
      if (!is_sign(")")) return expected("`)`");
      return advance();
    }
    if (is_word("mentions")) {
      if (!advance()) return false;
      tree_->reads_all_texts = true;
      return mentions(kNoField, out);
    }
    if (is_word("true") || is_word("false")) {
      Node node;
      node.constant = is_word("true") ? Truth::yes : Truth::no;
      out = add(std::move(node));
      return advance();
    }
    FieldId field = kNoField;
    if (!field_name(field, "a field's name")) return false;
    return predicate(field, out);
  }
  bool field_name(FieldId& field, const char* what) {
    const bool reserved = token_.form == Token::Form::name &&
                          std::find(kWords.begin(), kWords.end(), lower(token_.text)) != kWords.end() &&
                          !is_word("timestamp");
    if ((token_.form != Token::Form::name && token_.form != Token::Form::quoted_name) || reserved)
      return expected(what,
                      token_.form == Token::Form::text
                          ? "names stand without quotes or in double quotes: a condition starts with a field"
                          : "");
    field = field_id(token_.text);
    if (field == kNoField)
      return expected(what, "too many field names are known already, or this one is too long");
    if (std::find(tree_->fields.begin(), tree_->fields.end(), field) == tree_->fields.end())
      tree_->fields.push_back(field);
    return advance();
  }
  bool predicate(FieldId field, std::uint32_t& out) {
    Node node;
    node.field = field;
    if (is_word("is")) {
      if (!advance()) return false;
      bool negated = is_word("not");
      if (negated && !advance()) return false;
      if (is_word("null"))
        node.form = Form::is_null;
      else if (is_word("true") || is_word("false") || is_word("unknown")) {
        node.form = Form::is_truth;
        node.constant = is_word("true") ? Truth::yes : is_word("false") ? Truth::no : Truth::unknown;
      } else
        return expected("`null`, `true`, `false` or `unknown`",
                        did_you_mean(lower(token_.text), {"null", "true", "false", "unknown"}));
      out = add(std::move(node));
      if (negated) out = add(Form::negation, out, 0);
      return advance();
    }
    bool negated = is_word("not");
    if (negated && !advance()) return false;
    bool ok = true;
    if (is_word("in"))
      ok = in(node, out);
    else if (is_word("between"))
      ok = between(field, out);
    else if (is_word("like"))
      ok = like(node, out);
    else if (is_word("matches"))
      ok = matches(node, out);
    else if (is_word("mentions"))
      ok = advance() && mentions(field, out);
    else if (negated)
      return expected("`in`, `between`, `like`, `matches` or `mentions`");
    else
      return comparison(node, out);
    if (ok && negated) out = add(Form::negation, out, 0);
    return ok;
  }
  bool comparison(Node& node, std::uint32_t& out) {
    static constexpr std::pair<const char*, Comparison> kSigns[] = {
        {"=", Comparison::equal},   {"<>", Comparison::not_equal},
        {"<", Comparison::less},    {"<=", Comparison::less_or_equal},
        {">", Comparison::greater}, {">=", Comparison::greater_or_equal}};
    for (auto [sign, comparison] : kSigns)
      if (is_sign(sign)) {
        if (!advance()) return false;
        node.comparison = comparison;
        node.form = Form::compare;
        const bool other_field = token_.form == Token::Form::quoted_name ||
                                 (token_.form == Token::Form::name && !is_word("true") && !is_word("false") &&
                                  !is_word("null") && !(is_word("timestamp") && text_follows()));
        if (other_field) {
          node.form = Form::compare_fields;
          if (!field_name(node.other, "a value or a field's name")) return false;
        } else if (!literal(node)) {
          return false;
        }
        out = add(std::move(node));
        return true;
      }
    if (is_sign("==")) return expected("a comparison", "SQL compares with a single =");
    if (is_sign("!=")) return expected("a comparison", "SQL writes <> for `is not equal`");
    const bool ends = token_.form == Token::Form::end || is_word("and") || is_word("or") || is_sign(")") ||
                      is_sign("&&") || is_sign("||");
    if (!ends)
      return expected("a comparison after the field",
                      token_.form == Token::Form::name
                          ? did_you_mean(lower(token_.text), kWords)
                          : "=, <>, <, <=, >, >=, in, between, like, is, matches or mentions");
    node.form = Form::field;
    out = add(std::move(node));
    return true;
  }
  bool relative_time() {
    return fail("`" + token_.text + "` is relative to now, and a condition has no clock",
                "write a time such as '2026-11-23 10:00:00'; searches take --since 15m", token_.offset,
                token_.length);
  }
  bool literal(Node& node) {
    Value value;
    if (token_.form == Token::Form::text) {
      if ((node.field == names::timestamp || node.field == names::observed_timestamp) &&
          (token_.text == "now" || parse_duration(token_.text)))
        return relative_time();
      value = Value::text(tree_->texts.emplace_back(token_.text));
    } else if (token_.form == Token::Form::number) {
      const char* from = token_.text.data() + (token_.text[0] == '+');
      const char* end = token_.text.data() + token_.text.size();
      std::int64_t integer = 0;
      double decimal = 0;
      if (auto r = std::from_chars(from, end, integer); r.ec == std::errc() && r.ptr == end)
        value = Value::integer(integer);
      else if (auto d = std::from_chars(from, end, decimal); d.ec == std::errc() && d.ptr == end)
        value = Value::decimal(decimal);
      else
        return fail("`" + token_.text + "` is not a number", "texts stand in single quotes", token_.offset,
                    token_.length);
    } else if (is_word("true") || is_word("false")) {
      value = Value::boolean(is_word("true"));
    } else if (is_word("timestamp")) {
      if (!advance()) return false;
      if (token_.form == Token::Form::text && (token_.text == "now" || parse_duration(token_.text)))
        return relative_time();
      auto instant = token_.form == Token::Form::text ? parse_moment(token_.text, 0) : std::nullopt;
      if (!instant) return expected("a time in quotes", "for instance timestamp '2026-11-23 10:00:00'");
      value = Value::timestamp(*instant);
    } else if (is_word("null")) {
      return expected("a value", "SQL tests for null with `is null`");
    } else {
      return expected("a value: a number, or a text in single quotes");
    }
    node.literals.push_back(make_literal(value));
    return advance();
  }
  bool in(Node& node, std::uint32_t& out) {
    if (!advance()) return false;
    if (!is_sign("(")) return expected("`(`", "for instance: status in (502, 503)");
    do {
      if (!advance() || !literal(node)) return false;
    } while (is_sign(","));
    if (!is_sign(")")) return expected("`,` or `)`");
    node.form = Form::in;
    out = add(std::move(node));
    return advance();
  }
  bool between(FieldId field, std::uint32_t& out) {
    Node low, high;
    low.form = high.form = Form::compare;
    low.field = high.field = field;
    low.comparison = Comparison::greater_or_equal, high.comparison = Comparison::less_or_equal;
    if (!advance() || !literal(low)) return false;
    if (!is_word("and")) return expected("`and` and the upper value");
    if (!advance() || !literal(high)) return false;
    std::uint32_t left = add(std::move(low));
    std::uint32_t right = add(std::move(high));
    out = add(Form::both, left, right);
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
  bool mentions(FieldId field, std::uint32_t& out) {
    if (token_.form != Token::Form::text)
      return expected("words in single quotes", "for instance: mentions 'berth occupied'");
    Node node;
    node.form = Form::mentions;
    node.field = field;
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
    } else if (n.form == Form::compare) {
      tree_->bounds.push_back({n.field, n.comparison, n.literals[0]});
      const Value& v = n.literals[0].value;
      // Not for other readings of the text: an address or a time may be written in several ways.
      if (n.comparison == Comparison::equal && v.kind() == Kind::text && !n.literals[0].number &&
          !n.literals[0].instant && !n.literals[0].address && v.as_text() != "true" && v.as_text() != "false")
        for_each_word(v.as_text(),
                      [&](std::string_view word) { tree_->required_words.push_back(lower(word)); });
    } else if (n.form == Form::mentions) {
      for (const std::string& word : n.words->words()) tree_->required_words.push_back(word);
    }
  }

  std::string_view text_;
  std::shared_ptr<Condition::Tree> tree_;
  std::size_t at_ = 0;
  Token token_;
  Problem problem_;
};

Result<Condition> Condition::parse(std::string_view text) { return ConditionParser(text).parse(); }

}  // namespace dingle

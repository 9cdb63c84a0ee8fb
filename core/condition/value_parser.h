// Values in conditions and expressions: everything of the grammar below a truth value. Used by parser.cc only.
#pragma once

#include <algorithm>
#include <utility>

#include "core/condition/tokens.h"
#include "core/condition/tree.h"

namespace dingle {

class ValueParser {
 public:
  ValueParser(std::string_view text, const char* what)
      : text_(text), what_(what), tree_(std::make_shared<Condition::Tree>()) {
    tree_->text = std::string(text);
  }
  virtual ~ValueParser() = default;

 protected:
  using Token = SqlToken;

  // What was read: a truth value (a node) or a value (an operand), and where it stands.
  struct Part {
    bool is_truth = false;
    std::uint32_t index = 0;
    std::size_t offset = 0;
  };

  // Of truth values, which hold values and are held by them.
  virtual bool either(Part& out, std::size_t depth) = 0;
  virtual bool to_truth(Part& part) = 0;
  virtual bool compared(const Part& left, Part& right, std::size_t depth) = 0;
  virtual std::uint32_t compare_parts(const Part& left, Comparison comparison, const Part& right) = 0;

  static const std::vector<std::string>& reserved_words();

  // ---- tokens ----
  bool fail(std::string message, std::string hint, std::size_t offset, std::size_t length);
  bool expected(const std::string& what, std::string hint = "");
  bool advance();
  bool follows(char c) const;
  bool is_word(std::string_view word) const {
    return token_.form == Token::Form::name && lower_ascii_text(token_.text) == word;
  }
  bool is_sign(const char* sign) const { return token_.form == Token::Form::sign && token_.text == sign; }
  bool skip_sign(const char* sign) {
    return is_sign(sign) ? advance() : expected(std::string("`") + sign + "`");
  }
  bool skip_word(const char* word) {
    return is_word(word) ? advance() : expected(std::string("`") + word + "`");
  }

  // ---- nodes and operands ----
  std::uint32_t add(Operand operand);
  const Operand& at(const Part& part) const { return tree_->operands[part.index]; }
  bool is_constant(std::uint32_t index) const {
    return tree_->operands[index].form == Operand::Form::constant;
  }
  // A call, or what it comes to if all its arguments are constant.
  bool add_call(Function function, std::vector<std::uint32_t> arguments, CallDetail detail, Part& out);
  bool finish(Operand made, Part& out);
  // Both operands of arithmetic must be able to be numbers.
  bool numeric(const Part& part);
  bool to_value_only(const Part& part);
  bool to_value(Part& part);
  Kind result_kind_of(const Operand& o) const {
    return o.form == Operand::Form::call ? result_kind(o.function, tree_->details[o.detail]) : Kind::absent;
  }

  // ---- values ----
  // a || b, of sums. Outside parentheses `||` binds less than + and -.
  bool sum(Part& out, std::size_t depth);
  bool added(Part& out, std::size_t depth);
  bool multiplied(Part& out, std::size_t depth);
  bool single(Part& out, std::size_t depth);
  bool constant(Value value, Part& out);
  bool number(bool minus, std::size_t offset, Part& out);
  bool moment(Part& out);
  bool relative_time(const Token& token);
  bool field(Part& out);
  // case when c then a ... [else z] end; case x when v then a ... [else z] end
  bool choose(Part& out, std::size_t depth);
  bool argument(Part& out, std::size_t depth) { return either(out, depth + 1) && to_value(out); }
  // Within an argument that a word such as `from` ends.
  bool operand(Part& out, std::size_t depth) { return sum(out, depth + 1) && to_value(out); }

  bool function(const std::string& name, Part& out, std::size_t depth);
  bool one(std::vector<std::uint32_t>& arguments, std::size_t depth);
  bool list(std::vector<std::uint32_t>& arguments, std::size_t depth);
  bool kind(Kind& out);
  // extract(UNIT from VALUE [at time zone 'ZONE'])
  bool extracted(std::vector<std::uint32_t>& arguments, CallDetail& detail, std::size_t depth);
  // trim([[leading | trailing | both] [CHARACTERS] from] TEXT)
  bool trimmed(std::vector<std::uint32_t>& arguments, CallDetail& detail, std::size_t depth);

  std::string_view text_;
  const char* what_;  // that is parsed, for a person
  std::shared_ptr<Condition::Tree> tree_;
  std::size_t at_ = 0, last_end_ = 0;
  Token token_;
  bool joined_ = false;  // a `||` was seen
  Problem problem_;
};

}  // namespace dingle

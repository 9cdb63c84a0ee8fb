// The parsed form of conditions and value expressions. Used by the files of this folder only.
#pragma once

#include <deque>

#include "core/condition/condition.h"
#include "core/condition/expression.h"
#include "core/condition/functions.h"
#include "core/tables/table.h"

namespace dingle {

inline constexpr std::uint32_t kNoOperand = 0xFFFFFFFF;

// A value: constant, read, or made of others.
struct Operand {
  enum class Form : std::uint8_t { constant, field, call, coalesce, choose, truth };
  Form form = Form::constant;
  std::uint16_t depth = 1;
  FieldId field = kNoField;
  Function function = Function::add;
  std::uint32_t detail = 0;  // call: of Tree::details
  Value constant;            // a text points into Tree::texts
  // Operands; choose: a node and an operand in turn, and the operand that is left; truth: a node.
  std::vector<std::uint32_t> arguments;
};

struct Condition::Node {
  enum class Form : std::uint8_t {
    constant,
    both,
    either,
    negation,
    compare,
    compare_operands,
    in,
    like,
    is_null,
    is_truth,
    alone,
    matches,
    mentions,
    in_table
  };
  Form form = Form::constant;
  std::uint16_t depth = 0;            // of the operands within
  Truth constant = Truth::yes;        // constant; is_truth: the value asked for (field: what it holds)
  std::uint32_t left = 0, right = 0;  // both, either, negation: nodes; compare_operands: operands
  // Of what it says something: a field, or if that is kNoField, an operand. mentions: neither for the whole event.
  FieldId field = kNoField;
  std::uint32_t operand = kNoOperand;
  Comparison comparison = Comparison::equal;
  std::vector<Literal> literals;  // compare: one; in: all
  std::string pattern;            // like: as written
  char escape = '\0';             // like
  std::optional<Regex> regex;
  std::optional<WordQuery> words;
  std::shared_ptr<const TableHandle> table;
};

struct Condition::Tree {
  std::string text;
  std::vector<Node> nodes;
  std::vector<Operand> operands;
  std::vector<CallDetail> details{1};
  std::uint32_t root = 0;         // a node; of an expression an operand
  std::deque<std::string> texts;  // what literals and constants point to
  std::vector<Bound> bounds;
  std::vector<std::string> required_words;
  std::vector<FieldId> fields;
  bool reads_all_texts = false;
  bool makes_values = false;  // calls are among the operands
};

// `arena` takes what is made. The first thing that had no value is said in `fault`.
struct Evaluation {
  const Condition::Tree& tree;
  const FieldReader& event;
  Arena* arena;  // nullptr where nothing is made
  std::string_view fault = {};
  Truth truth(std::uint32_t node);
  Value value(std::uint32_t operand);

 private:
  Value subject(const Condition::Node& node);
};

inline constexpr std::size_t kLongestCondition = 20'000;  // bytes
inline constexpr std::size_t kDeepestCondition = 100;     // parentheses, nots and calls within each other

}  // namespace dingle

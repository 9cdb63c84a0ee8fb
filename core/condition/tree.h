// The parsed form of a condition. Used by condition.cc and parser.cc only.
#pragma once

#include <deque>

#include "core/condition/condition.h"

namespace dingle {

struct Condition::Node {
  enum class Form : std::uint8_t {
    constant,
    both,
    either,
    negation,
    compare,
    compare_fields,
    in,
    like,
    is_null,
    is_truth,
    field,
    matches,
    mentions
  };
  Form form = Form::constant;
  Truth constant = Truth::yes;        // constant; is_truth: the value asked for (field: what it holds)
  std::uint32_t left = 0, right = 0;  // both, either, negation: nodes
  FieldId field = kNoField;           // mentions: kNoField for the whole event
  FieldId other = kNoField;           // compare_fields
  Comparison comparison = Comparison::equal;
  std::vector<Literal> literals;  // compare: one; in: all
  std::string pattern;            // like: as written
  char escape = '\0';             // like
  std::optional<Regex> regex;
  std::optional<WordQuery> words;
};

struct Condition::Tree {
  std::string text;
  std::vector<Node> nodes;
  std::uint32_t root = 0;
  std::deque<std::string> texts;  // what literals point to
  std::vector<Bound> bounds;
  std::vector<std::string> required_words;
  std::vector<FieldId> fields;
  bool reads_all_texts = false;
};

inline constexpr std::size_t kLongestCondition = 20'000;  // bytes
inline constexpr std::size_t kDeepestCondition = 100;     // parentheses and nots within each other

}  // namespace dingle

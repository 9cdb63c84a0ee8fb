// What rows of tokens have in common. Internal to core/draft.
#pragma once

#include <algorithm>
#include <map>
#include <string>

#include "core/draft/tokens.h"

namespace dingle {

inline constexpr double kNearlyAll = 0.97;  // of the rows; the others are another kind of line, or damaged

inline bool is_value(Token::Form kind) {
  return kind != Token::Form::end && kind != Token::Form::blank && kind != Token::Form::sign;
}
inline bool is_typed(Token::Form kind) {
  return is_value(kind) && kind != Token::Form::word && kind != Token::Form::dotted;
}
inline bool is_wordlike(Token::Form kind) { return kind == Token::Form::word || kind == Token::Form::dotted; }

// Keeps the rows that have the commonest of something, if nearly all have.
template <class Key>
bool keep_commonest(auto& rows, Key key, double share) {
  std::map<std::string, std::size_t> counts;
  for (const auto& at : rows) ++counts[key(at)];
  auto best = std::max_element(counts.begin(), counts.end(),
                               [](const auto& a, const auto& b) { return a.second < b.second; });
  if (static_cast<double>(best->second) < share * static_cast<double>(rows.size())) return false;
  const std::string wanted = best->first;
  std::erase_if(rows, [&](const auto& at) { return key(at) != wanted; });
  return true;
}

}  // namespace dingle

// Matching in every way that there is: each runner, with and without room behind the line, alone and in a
// set; and the explainer, which must agree with them.
#pragma once

#include <string>
#include <vector>

#include "core/template/set.h"

namespace dingle {

struct MatchCheck {
  bool matched = false;
  std::vector<Value> values;  // by slot
  std::string disagreement;   // "" if all ways agree
};

inline MatchCheck match_everywhere(const std::shared_ptr<const Template>& t, const std::string& text,
                                   Arena& arena) {
  MatchCheck check;
  // The line stands in a buffer with other text behind it, as lines in a batch do.
  std::vector<char> padded(text.begin(), text.end());
  padded.resize(text.size() + kReadAhead, 'a');
  const std::string_view line(padded.data(), text.size());
  constexpr std::int64_t kReference = 1'795'428'000'000'000'000;
  std::vector<Field> found;
  auto rendered = [&](const Value* values) {
    std::string out;
    for (std::size_t i = 0; i < t->slots().size(); ++i) values[i].append_json(out), out += '\x1f';
    for (const Field& f : found) (out += field_name(f.name)) += '=', f.value.append_json(out);
    return out;
  };
  std::string first;
  bool begun = false;
  auto compare = [&](const char* how, bool matched, const Value* values) {
    const std::string text_of_all = matched ? rendered(values) : "";
    if (!begun) {
      begun = true;
      check.matched = matched;
      if (matched)
        for (std::size_t i = 0; i < t->slots().size(); ++i)
          check.values.push_back(values[i].is_textual()
                                     ? Value::from_text(values[i].kind(), arena.copy(values[i].as_text()))
                                     : values[i]);
      first = text_of_all;
    } else if (matched != check.matched || text_of_all != first) {
      check.disagreement = std::string(how) + ": " + (matched ? text_of_all : "no match") + " instead of " +
                           (check.matched ? first : "no match");
    }
    found.clear();
  };
  std::vector<Value> values(t->value_count());
  const MatchContext with_room{&arena, kReference, &found, padded.data() + padded.size()};
  const MatchContext without{&arena, kReference, &found, nullptr};
  for (const NamedRunner& runner : runners()) {
    std::vector<Value> own(t->value_count());
    const bool matched = t->match_with(runner, line, with_room, own.data());
    compare(runner.name, matched, own.data());
    if (runner.reads_ahead) continue;
    const bool exact = t->match_with(runner, text, without, own.data());
    compare("without room", exact, own.data());
  }
  const bool alone = t->match(text, without, values.data());
  compare("alone", alone, values.data());
  std::vector<Value> of_set;
  const bool in_a_set = TemplateSet({t, t}).match(line, with_room, of_set) == 0;
  compare("in a set", in_a_set, of_set.data());
  const Mismatch m = t->explain(text, without);
  if (check.matched != (m.expected.empty() && !m.too_expensive) && !check.matched)
    check.disagreement = "explaining finds nothing wrong";
  MatchFailure failure;
  for (const auto& [where, context] :
       {std::pair(line, with_room), std::pair(std::string_view(text), without)}) {
    t->locate(where, context, failure);
    if (!check.matched && (failure.offset != m.offset || Template::reason(failure) != m.reason()))
      check.disagreement = "located " + std::to_string(failure.offset) + ": " + Template::reason(failure) +
                           " instead of " + m.sentence();
  }
  return check;
}

}  // namespace dingle

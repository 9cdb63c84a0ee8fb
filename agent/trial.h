// Templates tried on lines, and drafts, as JSON: the same for `dingle try`, `dingle unmatched` and the API.
#pragma once

#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "agent/json.h"
#include "core/draft/draft.h"
#include "core/template/set.h"

namespace dingle {

// One line, tried. Texts point into the line or into the arena that was given.
struct TriedLine {
  std::size_t number = 0;  // counted from 1
  std::string_view text;
  int which = -1;  // the template that matched
  std::vector<std::pair<std::string, Value>> fields;
  bool too_expensive = false;
  // When none matched: of the template that came furthest.
  std::size_t nearest = 0;
  Mismatch mismatch;
  Advice advice;
};

// `advise`: also look for what would help; that costs some hundred times as much as matching.
TriedLine try_line(const TemplateSet& set, const PatternLibrary& library, std::size_t number,
                   std::string_view line, std::int64_t now, Arena& arena, bool advise);

// {"line", "matched", "text", "template", "fields"} or {..., "column", "expected", "found", "reason",
// "so_far", "others", "skipping_helps"}
Json json_of(const TriedLine& line);

// What came out of many lines.
class TrialSummary {
 public:
  void add(const TriedLine& line);
  std::size_t matched = 0, unmatched = 0, too_expensive = 0;
  std::map<int, std::size_t> by_template;
  struct OfField {
    std::string name;
    std::size_t lines = 0;
    std::map<std::string, std::size_t> kinds, values;  // values: at most 1000 different ones
    bool many = false;
  };
  std::vector<OfField> fields;  // in the order in which they came
  Json json() const;
  // The most frequent values of a field, with counts.
  static std::vector<std::pair<std::string, std::size_t>> top(const OfField& field, std::size_t most);
};

Json json_of(const Draft& draft);

}  // namespace dingle

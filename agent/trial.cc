#include "agent/trial.h"

#include <algorithm>

#include "core/json_text.h"

namespace dingle {

namespace {

Json json_of(const std::vector<std::pair<std::string, Value>>& fields) {
  Json object = Json::object();
  for (const auto& [name, value] : fields) object[name] = json_of(value);
  return object;
}

}  // namespace

TriedLine try_line(const TemplateSet& set, const PatternLibrary& library, std::size_t number,
                   std::string_view line, std::int64_t now, Arena& arena, bool advise) {
  TriedLine tried;
  tried.number = number;
  tried.text = line;
  std::vector<Value> values;
  std::vector<Field> found;
  const MatchContext context{&arena, now, &found, nullptr};
  int expensive = -1;
  tried.which = set.match(line, context, values, &expensive);
  tried.too_expensive = expensive >= 0;
  if (tried.which >= 0) {
    const std::vector<Slot>& slots = set[static_cast<std::size_t>(tried.which)].slots();
    for (std::size_t i = 0; i < slots.size(); ++i)
      if (!values[i].absent()) tried.fields.emplace_back(slots[i].name, values[i]);
    for (const Field& f : found) tried.fields.emplace_back(field_name(f.name), f.value);
    return tried;
  }
  bool any = false;
  std::vector<std::size_t> nearest;
  set.nearest(line, context, 16, nearest);
  for (std::size_t i : nearest) {
    Mismatch m = set[i].explain(line, context);
    if (any && m.offset <= tried.mismatch.offset) continue;
    tried.mismatch = std::move(m);
    tried.nearest = i;
    any = true;
  }
  if (advise && any) tried.advice = set[tried.nearest].advise(line, context, library);
  return tried;
}

Json json_of(const TriedLine& line) {
  Json row{{"line", line.number}, {"matched", line.which >= 0}, {"text", valid_utf8(line.text)}};
  if (line.which >= 0) {
    row["template"] = line.which + 1;
    row["fields"] = json_of(line.fields);
    return row;
  }
  const Mismatch& m = line.mismatch;
  row["template"] = line.nearest + 1;
  row["column"] = m.offset + 1;
  row["expected"] = m.expected;
  row["found"] = valid_utf8(m.found);
  row["reason"] = valid_utf8(m.sentence());
  row["too_expensive"] = m.too_expensive;
  row["so_far"] = json_of(m.so_far);
  row["others"] = Json::array();
  for (const Advice::Other& other : line.advice.others)
    row["others"].push_back(
        {{"pattern", other.pattern}, {"text", valid_utf8(other.text)}, {"rest_matches", other.rest_matches}});
  row["skipping_helps"] = line.advice.skipping_helps;
  if (line.advice.skipping_helps) row["skipped"] = valid_utf8(line.advice.skipped);
  row["advice"] = valid_utf8(line.advice.sentence());
  return row;
}

void TrialSummary::add(const TriedLine& line) {
  constexpr std::size_t kMostValues = 1000;
  too_expensive += line.too_expensive;
  if (line.which < 0) {
    ++unmatched;
    return;
  }
  ++matched;
  ++by_template[line.which];
  for (const auto& [name, value] : line.fields) {
    auto it = std::find_if(fields.begin(), fields.end(),
                           [&, name = name](const OfField& f) { return f.name == name; });
    if (it == fields.end()) it = fields.insert(fields.end(), OfField{name, 0, {}, {}, false});
    ++it->lines;
    ++it->kinds[std::string(kind_name(value.kind()))];
    const std::string text = valid_utf8(value.to_string()).substr(0, 200);
    if (it->values.size() < kMostValues || it->values.contains(text))
      ++it->values[text];
    else
      it->many = true;
  }
}

std::vector<std::pair<std::string, std::size_t>> TrialSummary::top(const OfField& field, std::size_t most) {
  std::vector<std::pair<std::string, std::size_t>> all(field.values.begin(), field.values.end());
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
  if (all.size() > most) all.resize(most);
  return all;
}

Json TrialSummary::json() const {
  Json j{{"matched", matched}, {"unmatched", unmatched}, {"too_expensive", too_expensive}};
  j["by_template"] = Json::array();
  for (auto [which, count] : by_template)
    j["by_template"].push_back({{"template", which + 1}, {"lines", count}});
  j["fields"] = Json::array();
  for (const OfField& f : fields) {
    Json row{{"field", f.name}, {"lines", f.lines}, {"types", f.kinds}, {"values", Json::array()}};
    row["distinct"] = f.values.size();
    row["more"] = f.many;
    for (const auto& [value, count] : top(f, 5))
      row["values"].push_back({{"value", value}, {"lines", count}});
    j["fields"].push_back(std::move(row));
  }
  return j;
}

Json json_of(const Draft& draft) {
  Json j{{"lines", draft.lines}, {"joined", draft.joined}, {"unexplained", draft.unexplained}};
  if (!draft.join.empty()) j["join"] = draft.join;
  j["json"] = draft.json;
  j["templates"] = Json::array();
  for (const DraftTemplate& t : draft.templates)
    j["templates"].push_back(
        {{"template", t.text},
         {"lines", t.lines},
         {"share", draft.lines ? static_cast<double>(t.lines) / static_cast<double>(draft.lines) : 0},
         {"layout", t.layout},
         {"example", valid_utf8(t.example)}});
  j["heads"] = draft.heads;
  j["picks"] = Json::array();
  for (const DraftTemplate& t : draft.picks) j["picks"].push_back({{"template", t.text}, {"lines", t.lines}});
  j["time_field"] = draft.time_field;
  j["notes"] = draft.notes;
  j["unexplained_examples"] = Json::array();
  for (const std::string& line : draft.unexplained_examples)
    j["unexplained_examples"].push_back(valid_utf8(line));
  j["yaml"] = draft.yaml();
  return j;
}

}  // namespace dingle

#include "client/compared.h"

#include <algorithm>
#include <iostream>
#include <map>
#include <utility>

#include "client/table.h"
#include "core/time/formats.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

using Key = std::pair<std::int64_t, std::string>;  // of a line in a pipeline

// What comes of each line, by pipeline; of several events of one line all, in their order.
std::map<Key, std::vector<Json>> by_line(const Json& answer, std::map<std::int64_t, std::string>& texts) {
  std::map<Key, std::vector<Json>> all;
  for (const Json& pipeline : answer["pipelines"])
    for (const Json& event : pipeline["events"]) {
      if (!event.contains("line")) continue;  // made at the end of the sample, of no one line
      const auto line = event["line"].get<std::int64_t>();
      all[{line, pipeline["pipeline"]}].push_back(event);
      if (event.contains("text")) texts.emplace(line, event["text"].get<std::string>());
    }
  return all;
}

std::map<std::string, Json> fields_of(const Json& event) {
  std::map<std::string, Json> fields;
  if (event.contains("fields"))
    for (const Json& f : event["fields"]) fields[f["field"]] = {{"type", f["type"]}, {"value", f["value"]}};
  return fields;
}

// Who it fared by: the step's number says more than an outcome alone.
std::string outcome_of(const Json& event) {
  std::string text = event["outcome"];
  std::replace(text.begin(), text.end(), '_', ' ');
  if (event.contains("by")) text += " (step " + dump(event["by"]) + ")";
  return text;
}

// Whether it is the time of reading, as far as that can be told.
bool is_now(const Json& event, std::int64_t now) {
  if (!event.contains("timestamp")) return false;
  const std::string text = event["timestamp"];
  ParsedTime t;
  return scan_rfc3339(text.data(), text.data() + text.size(), t) != nullptr &&
         t.nanoseconds > now - 60 * kSecond && t.nanoseconds < now + 60 * kSecond;
}

void differ(const Json& a, const Json& b, std::int64_t now, Json& differences) {
  const auto add = [&](const char* what, Json before, Json after) {
    if (before != after)
      differences.push_back({{"what", what}, {"before", std::move(before)}, {"after", std::move(after)}});
  };
  const auto member = [](const Json& event, const char* name) {
    return event.contains(name) ? event[name] : Json(nullptr);
  };
  add("outcome", outcome_of(a), outcome_of(b));
  add("body", member(a, "body"), member(b, "body"));
  if (!is_now(a, now) || !is_now(b, now)) add("timestamp", member(a, "timestamp"), member(b, "timestamp"));
  const auto before = fields_of(a), after = fields_of(b);
  std::map<std::string, bool> names;
  for (const auto& [name, value] : before) names[name] = true;
  for (const auto& [name, value] : after) names[name] = true;
  for (const auto& [name, there] : names) {
    const auto x = before.find(name), y = after.find(name);
    const Json old = x == before.end() ? Json(nullptr) : x->second,
               fresh = y == after.end() ? Json(nullptr) : y->second;
    if (old != fresh)
      differences.push_back({{"what", "field"}, {"field", name}, {"before", old}, {"after", fresh}});
  }
  add("to", member(a, "to"), member(b, "to"));
}

// "+ ship", "~ body": what differs, without values.
std::string signature(const Json& differing) {
  std::string text = differing["pipeline"];
  text += ":";
  for (const Json& d : differing["differences"]) {
    const std::string what = d["what"];
    const std::string name = what == "field" ? d["field"].get<std::string>() : what;
    if (what == "outcome" || what == "events")
      text += " " + json_text(d["before"]) + " → " + json_text(d["after"]) + ";";
    else
      text += std::string(d["before"].is_null() ? " +" : d["after"].is_null() ? " −" : " ~") + name;
  }
  if (text.ends_with(';')) text.pop_back();
  return text;
}

std::string shown(const Json& value) {
  if (value.is_null()) return "nothing";
  if (value.is_object() && value.contains("value"))
    return json_text(value["value"]) + " (" + value["type"].get<std::string>() + ")";
  return json_text(value);
}

}  // namespace

std::vector<Json> compare_rehearsals(const Json& before, const Json& after, std::int64_t now) {
  std::map<std::int64_t, std::string> texts;
  const auto a = by_line(before, texts), b = by_line(after, texts);
  std::map<Key, std::pair<std::vector<Json>, std::vector<Json>>> both;
  for (const auto& [key, events] : a) both[key].first = events;
  for (const auto& [key, events] : b) both[key].second = events;
  std::vector<Json> all;
  for (const auto& [key, events] : both) {
    const auto& [old, fresh] = events;
    Json differences = Json::array();
    const auto count = [](std::size_t n) {
      return n == 0 ? std::string("not taken") : counted(static_cast<std::int64_t>(n), "event");
    };
    if (old.size() != fresh.size())
      differences.push_back(
          {{"what", "events"}, {"before", count(old.size())}, {"after", count(fresh.size())}});
    for (std::size_t i = 0; i < std::min(old.size(), fresh.size()); ++i)
      differ(old[i], fresh[i], now, differences);
    if (differences.empty()) continue;
    const auto text = texts.find(key.first);
    all.push_back({{"line", key.first},
                   {"text", text == texts.end() ? Json(nullptr) : Json(text->second)},
                   {"pipeline", key.second},
                   {"differences", std::move(differences)}});
  }
  return all;
}

void print_comparison(const Client& client, const Json& before, const std::vector<Json>& differing) {
  std::map<std::string, std::vector<const Json*>> groups;
  for (const Json& d : differing) groups[signature(d)].push_back(&d);
  std::vector<std::pair<std::string, std::vector<const Json*>>> sorted(groups.begin(), groups.end());
  std::stable_sort(sorted.begin(), sorted.end(),
                   [](const auto& x, const auto& y) { return x.second.size() > y.second.size(); });
  const auto lines = before["lines"].get<std::int64_t>();
  std::cout << (differing.empty()
                    ? paint(client, "1;32", "the same: ")
                    : paint(client, "1;33",
                            counted(static_cast<std::int64_t>(differing.size()), "line fares", "lines fare") +
                                " differently: "))
            << counted(lines, "line") << " went both ways\n";
  constexpr std::size_t kMostGroups = 12;
  const std::size_t room = std::max<std::size_t>(30, client.width - 14);
  for (std::size_t i = 0; i < std::min(kMostGroups, sorted.size()); ++i) {
    const Json& example = *sorted[i].second.front();
    std::cout << "\n"
              << paint(client, "33", counted(static_cast<std::int64_t>(sorted[i].second.size()), "line"))
              << "  " << one_line(sorted[i].first) << "\n    "
              << paint(client, "2", "line " + dump(example["line"]) + ": ")
              << cut_for(client, one_line(json_text(example["text"])), room) << "\n";
    for (const Json& d : example["differences"]) {
      const std::string name =
          d["what"] == "field" ? d["field"].get<std::string>() : d["what"].get<std::string>();
      std::cout << "      " << paint(client, "36", one_line(name)) << "  "
                << paint(client, "31", cut_for(client, one_line(shown(d["before"])), room / 2)) << " → "
                << paint(client, "32", cut_for(client, one_line(shown(d["after"])), room / 2)) << "\n";
    }
  }
  if (sorted.size() > kMostGroups)
    std::cout << paint(client, "2",
                       "\nand " +
                           counted(static_cast<std::int64_t>(sorted.size() - kMostGroups), "further kind") +
                           " of difference\n");
}

}  // namespace dingle

#include "client/rehearsal.h"

#include <fmt/format.h>

#include <algorithm>
#include <iostream>

#include "client/table.h"
#include "core/options/options.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

std::string step_name(const Json& pipeline, std::size_t number) {
  const Json& step = pipeline["steps"][number - 1];
  return std::to_string(number) + " " + step.value("name", step["kind"].get<std::string>()) +
         (step.value("off", false) ? " (off)" : "");
}

std::int64_t number_of(const Json& object, const char* member) { return object[member].get<std::int64_t>(); }

std::string bytes_shown(const Json& object, const char* member) {
  return format_size(object[member].get<std::uint64_t>());
}

// "−38 %"; "" for less than half of one.
std::string change_shown(std::int64_t before, std::int64_t behind) {
  if (before == 0) return "";
  const double percent = 100.0 * static_cast<double>(behind - before) / static_cast<double>(before);
  if (percent > -0.5 && percent < 0.5) return "";
  return fmt::format("{}{:.0f} %", percent < 0 ? "−" : "+", percent < 0 ? -percent : percent);
}

void print_counts(const Client& client, const Json& pipeline) {
  std::vector<Json> rows;
  for (const Json& s : pipeline["steps"]) {
    const std::string name = step_name(pipeline, s["step"].get<std::size_t>());
    const std::int64_t before = number_of(s, "bytes_in"), behind = number_of(s, "bytes_out");
    rows.push_back(
        {{"step", name},
         {"in", s["in"]},
         {"changed", s["changed"]},
         {"dropped", s["dropped"]},
         {"failed", s["failed"]},
         {"missed", s["missed"]},
         {"folded", s["merged"]},
         {"bytes", change_shown(before, behind)},
         {"time", fmt::format("{:.2f} ms", static_cast<double>(number_of(s, "nanoseconds")) / 1e6)},
         {"where", s.value("where", "")}});
  }
  using Look = Column::Look;
  std::vector<Column> columns{{"step", "step"},
                              {"in", "in", Look::count},
                              {"changed", "changed", Look::count},
                              {"dropped", "dropped", Look::count},
                              {"failed", "failed", Look::count, true},
                              {"missed", "missed", Look::count},
                              {"folded", "folded", Look::count},
                              {"bytes", "bytes"},
                              {"time", "time"},
                              {"where", "where"}};
  // What only some steps do.
  std::erase_if(columns, [&](const Column& c) {
    return (c.key == "missed" || c.key == "folded") &&
           std::all_of(rows.begin(), rows.end(), [&](const Json& r) { return r[c.key] == 0; });
  });
  print_rows(client, columns, rows);
}

void print_where_it_goes(const Client& client, const Json& pipeline) {
  for (const Json& to : pipeline["to"]) {
    std::string names;
    for (const auto& [name, events] : to["names"].items())
      names += (names.empty() ? "" : ", ") + name + (to["names"].size() > 1 ? " " + events.dump() : "");
    std::cout << "to " << paint(client, "1", to["destination"].get<std::string>()) << ": "
              << counted(number_of(to, "events"), "event") << ", " << bytes_shown(to, "bytes")
              << (names.empty() ? "" : "  " + paint(client, "2", cut_to_width(names, 60))) << "\n";
  }
}

void print_not_taken(const Client& client, const Json& pipeline, std::size_t most) {
  const Json& not_taken = pipeline["not_taken"];
  for (const auto& [why, count] : not_taken["why"].items()) {
    std::string reason = "another pipeline took them";
    if (why == "where") reason = "`where` does not hold: " + pipeline["where"].get<std::string>();
    if (why == "unless") reason = "`unless` holds: " + pipeline["unless"].get<std::string>();
    std::cout << counted(count.get<std::int64_t>(), "line") << " not taken; " << one_line(reason) << "\n";
    std::size_t shown = 0;
    for (const Json& line : not_taken["lines"])
      if (line["why"] == why && shown++ < most)
        std::cout << paint(client, "2", fmt::format("  line {:<5}", number_of(line, "line")))
                  << cut_to_width(one_line(line["text"].get<std::string>()), client.width - 13) << "\n";
  }
}

// Whether the change is of a part of the line.
bool has_color(const Json& event, const Json& change) {
  return event.contains("text") && change.contains("from") && change.contains("after") &&
         change["length"].get<std::size_t>() != event["text"].get_ref<const std::string&>().size();
}

// The line, each field's text in the field's colour.
std::string coloured(const Client& client, const Json& event, std::size_t width) {
  const std::string text = event["text"].get<std::string>();
  std::vector<int> owner(text.size(), -1);
  int color = 0;
  for (const Json& done : event["steps"])
    for (const Json& change : done["changes"]) {
      if (!has_color(event, change)) continue;
      const auto from = change["from"].get<std::size_t>(), length = change["length"].get<std::size_t>();
      for (std::size_t i = from; i < std::min(from + length, text.size()); ++i)
        if (owner[i] < 0) owner[i] = color;
      ++color;
    }
  std::string out;
  std::size_t used = 0;
  for (std::size_t i = 0; i < text.size() && used < width;) {
    std::size_t end = i;
    while (end < text.size() && owner[end] == owner[i]) ++end;
    const std::string piece = cut_to_width(one_line(text.substr(i, end - i)), width - used);
    used += display_width(piece);
    out += owner[i] < 0 ? piece : paint(client, field_color(static_cast<std::size_t>(owner[i])), piece);
    i = end;
  }
  return out;
}

std::string value_shown(const Json& value) { return one_line(json_text(value)); }

void print_changes(const Client& client, const Json& pipeline, const Json& event) {
  std::size_t wide = 12;
  for (const Json& done : event["steps"])
    for (const Json& change : done["changes"])
      wide = std::max(wide, std::min<std::size_t>(28, display_width(change["field"].get<std::string>())));
  std::size_t color = 0;
  for (const Json& done : event["steps"]) {
    std::string step = cut_to_width(step_name(pipeline, done["step"].get<std::size_t>()), 12);
    const auto line = [&](const std::string& text) {
      std::cout << "    " << step << std::string(14 - std::min<std::size_t>(14, display_width(step)), ' ')
                << text << "\n";
      step.clear();
    };
    const bool drops = pipeline["steps"][done["step"].get<std::size_t>() - 1]["kind"] == "drop";
    if (done["passed_by"].get<bool>() && !drops)
      line(paint(client, "2", "passed by: its `where` does not hold"));
    for (const Json& change : done["changes"]) {
      std::string field = cut_to_width(change["field"].get<std::string>(), wide);
      const std::string gap(wide - display_width(field) + 2, ' ');
      field = (has_color(event, change) ? paint(client, field_color(color++), field) : field) + gap;
      const std::size_t room = std::max<std::size_t>(20, client.width - std::min(client.width, wide + 32));
      if (!change.contains("after")) {
        line(field +
             paint(client, "2", "taken away, was " + cut_to_width(value_shown(change["before"]), room)));
        continue;
      }
      std::string type = change["type"].get<std::string>();
      type.resize(std::max<std::size_t>(9, type.size()), ' ');
      const std::string was = change.contains("before") && change["field"] != "timestamp"
                                  ? "  was " + cut_to_width(value_shown(change["before"]), room / 2)
                                  : "";
      line(field + paint(client, "2", type) + "  " +
           cut_to_width(value_shown(change["after"]), room - std::min(room - 20, display_width(was))) +
           paint(client, "2", was));
    }
  }
}

void print_event(const Client& client, const Json& pipeline, const Json& event, bool whole) {
  const std::size_t room = std::max<std::size_t>(30, client.width - 13);
  if (event.contains("line"))
    std::cout << paint(client, "2", fmt::format("  line {:<5}", number_of(event, "line"))) << " "
              << coloured(client, event, room) << "\n";
  else
    std::cout << paint(client, "2",
                       "  made by " + step_name(pipeline, event["made_by"].get<std::size_t>()) +
                           (event.value("at_end", false) ? ", closed since the sample ends" : ""))
              << "\n";
  if (event.contains("column")) {
    const auto column = event["column"].get<std::size_t>();
    if (column < room) std::cout << std::string(13 + column - 1, ' ') << paint(client, "1;31", "^") << "\n";
  }
  if (whole) print_changes(client, pipeline, event);
  if (event.value("made_by", 0) != 0)
    for (const Json& f : event["fields"])
      std::cout << "    " << f["field"].get<std::string>() << "  "
                << cut_to_width(value_shown(f["value"]), room) << "\n";
  if (!whole || !event.contains("to") || event["to"].empty()) return;
  std::string to;
  for (const Json& t : event["to"]) {
    to += (to.empty() ? "" : ", ") + t["destination"].get<std::string>();
    if (t.contains("name")) to += " (" + t["name"].get<std::string>() + ")";
  }
  std::cout << "    to            " << to << "\n";
}

// What happened to events in the same way: the sentence, and those.
struct Fate {
  std::string sentence;
  const char* color;
  std::vector<const Json*> events;
};

std::string sentence_of(const Json& pipeline, const Json& event) {
  const std::string outcome = event["outcome"].get<std::string>();
  const std::string by = event.contains("by") ? step_name(pipeline, event["by"].get<std::size_t>()) : "";
  if (outcome == "dropped") return "dropped by " + by;
  if (outcome == "merged") return "taken up by " + by;
  if (outcome == "unrouted") return "would go nowhere: no condition of `to` holds";
  if (outcome == "goes_on") return "go on";
  const std::string reason = event.value("reason", "");
  return "fail at " + by + ": " + reason.substr(0, reason.find(", found "));
}

void print_events(const Client& client, const Json& pipeline, std::size_t most) {
  std::vector<Fate> kinds;
  for (const Json& event : pipeline["events"]) {
    const std::string sentence = sentence_of(pipeline, event), outcome = event["outcome"].get<std::string>();
    auto it = std::find_if(kinds.begin(), kinds.end(), [&](const Fate& k) { return k.sentence == sentence; });
    if (it == kinds.end())
      it = kinds.insert(it, {sentence,
                             outcome == "goes_on"                           ? "1;32"
                             : outcome == "failed" || outcome == "unrouted" ? "1;31"
                                                                            : "1;33",
                             {}});
    it->events.push_back(&event);
  }
  std::stable_sort(kinds.begin(), kinds.end(), [](const Fate& a, const Fate& b) {
    const auto order = [](const Fate& k) {
      return std::string_view(k.color) == "1;31" ? 0 : std::string_view(k.color) == "1;33" ? 1 : 2;
    };
    return std::pair(order(a), b.events.size()) < std::pair(order(b), a.events.size());
  });
  for (const Fate& kind : kinds) {
    std::cout << "\n"
              << paint(client, kind.color,
                       with_thousands(static_cast<std::int64_t>(kind.events.size())) + " " +
                           one_line(kind.sentence))
              << "\n";
    const bool whole = std::string_view(kind.color) != "1;33";
    for (std::size_t i = 0; i < std::min(most, kind.events.size()); ++i)
      print_event(client, pipeline, *kind.events[i], whole);
    if (kind.events.size() > most)
      std::cout << paint(client, "2",
                         "  … and " + with_thousands(static_cast<std::int64_t>(kind.events.size() - most)) +
                             " more")
                << "\n";
  }
}

}  // namespace

void print_rehearsal(const Client& client, const Json& answer, std::size_t most) {
  const std::int64_t lines = number_of(answer, "lines");
  const std::string from = answer["from"].get<std::string>(), source = answer["source"].get<std::string>();
  std::cout << counted(lines, "line")
            << (from == "newest"   ? ", the newest of the source " + source
                : from == "kept"   ? ", a sample set of the source " + source
                : from == "stored" ? ", bodies of stored events of the source " + source
                                   : ", as of the source " + source)
            << paint(client, "2",
                     "; configuration " + answer["configuration"].get<std::string>() + "; nothing is sent")
            << "\n";
  if (answer.contains("why_empty")) {
    std::cout << paint(client, "1;33", "there is nothing to rehearse: ")
              << answer["why_empty"].get<std::string>() << "\n";
    return;
  }
  std::string unreached;
  for (const Json& pipeline : answer["pipelines"]) {
    const std::string name = pipeline["pipeline"].get<std::string>();
    if (pipeline.contains("unreached")) {
      unreached += (unreached.empty() ? "" : ", ") + name;
      continue;
    }
    std::cout << "\n"
              << paint(client, "1", "pipeline " + name) << " takes "
              << counted(number_of(pipeline, "in"), "event") << ", " << bytes_shown(pipeline, "bytes_in")
              << "\n";
    if (number_of(pipeline, "in") != 0 && !pipeline["steps"].empty()) print_counts(client, pipeline);
    if (number_of(pipeline, "in") != 0) print_where_it_goes(client, pipeline);
    print_not_taken(client, pipeline, most);
    print_events(client, pipeline, most);
  }
  if (!unreached.empty())
    std::cout << "\nnothing that comes from " << source << " reaches " << paint(client, "2", unreached)
              << "\n";
  if (const std::int64_t left = number_of(answer, "leftovers"); left != 0)
    std::cout << "\n" << paint(client, "1;33", counted(left, "line")) << " no pipeline takes\n";
}

}  // namespace dingle

// dingle search: the newest events that satisfy a condition.
#include <iostream>

#include "client/events.h"
#include "client/export.h"
#include "client/query_options.h"
#include "core/condition/condition.h"

namespace dingle {
namespace {

struct SearchOptions {
  QueryOptions query;
  std::size_t limit = 20, lines = 5;
  bool full = false, oldest = false, all = false, defuse = false, ids = false;
  std::string after, around;
  std::vector<std::string> fields;
};

// Words of the condition, which are marked where they stand.
std::vector<std::string> words_of(const Parameters& parameters) {
  const auto where = parameters.find("where");
  const auto condition = Condition::parse(where == parameters.end() ? "" : where->second);
  return condition ? condition->required_words() : std::vector<std::string>();
}

void print_events(const Client& client, const SearchOptions& o, const std::vector<Json>& events,
                  const std::vector<std::string>& hits) {
  for (std::size_t i = 0; i < events.size(); ++i)
    if (o.full)
      std::cout << (i ? "\n" : "") << event_in_full(client, events[i]);
    else if (o.ids)
      std::cout << paint(client, "2", events[i]["dingle.id"].get<std::string>()) << "  "
                << event_line(client, events[i], 34, hits) << "\n";
    else
      std::cout << event_line(client, events[i], 0, hits) << "\n";
}

int run_around(const Client& client, const SearchOptions& o, Parameters parameters) {
  parameters.emplace("id", o.around);
  parameters.emplace("lines", std::to_string(o.lines));
  const Answer a = call(client, "GET", "/v1/events/around", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body);
  const std::vector<Json> events(a.body["events"].begin(), a.body["events"].end());
  const auto at = a.body["at"].get<std::size_t>();
  if (client.output != OutputForm::table) {
    print_rows(client, columns_of(events), events);
  } else {
    for (std::size_t i = 0; i < events.size(); ++i) {
      const std::string mark = i == at ? paint(client, "1;32", "> ") : "  ";
      if (o.full)
        std::cout << (i ? "\n" : "") << (i == at ? mark + "\n" : "") << event_in_full(client, events[i]);
      else
        std::cout << mark << event_line(client, events[i], 2) << "\n";
    }
    const Json& hit = events.at(at);
    const std::string path = hit.contains("log.file.path") ? json_text(hit["log.file.path"]) : "";
    std::cout << paint(client, "2",
                       counted(static_cast<std::int64_t>(at), "line") + " before it and " +
                           with_thousands(static_cast<std::int64_t>(events.size() - at - 1)) + " behind it" +
                           (path.empty() ? "" : ", in " + visible(path)))
              << "\n";
  }
  return damaged ? kFoundProblems : kFine;
}

int run_search(Client& client, const SearchOptions& o) {
  Parameters parameters = o.query.parameters(client);
  if (o.full) parameters.emplace("types", "true");
  if (!o.around.empty()) return run_around(client, o, std::move(parameters));
  if (o.ids) parameters.emplace("ids", "true");
  if (o.all) return export_events(client, {parameters, o.fields, o.oldest, o.defuse, o.after});
  parameters.emplace("limit", std::to_string(o.limit));
  if (o.oldest) parameters.emplace("oldest", "true");
  if (!o.after.empty()) parameters.emplace("after", o.after);
  Answer a = call(client, "GET", "/v1/events", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body);
  const std::vector<Json> events(a.body["events"].begin(), a.body["events"].end());
  const std::string next = a.body.value("next", "");
  if (client.output != OutputForm::table || !o.fields.empty()) {
    std::vector<Column> columns;
    for (const std::string& field : o.fields)
      columns.push_back({field, field, field == "timestamp" ? Column::Look::time : Column::Look::text});
    std::vector<Json> rows = events;
    if (!o.fields.empty() && client.output != OutputForm::table)
      for (Json& row : rows) {
        Json kept = Json::object();
        for (const std::string& field : o.fields)
          if (row.contains(field)) kept[field] = row[field];
        row = std::move(kept);
      }
    print_rows(client, columns.empty() ? columns_of(rows) : columns, rows);
    if (!next.empty()) std::cerr << "note: there are more; go on with --after " << next << "\n";
  } else {
    print_events(client, o, events, words_of(parameters));
    const Json& s = a.body["scanned"];
    std::cout << paint(client, "2",
                       (o.oldest ? "oldest " : "newest ") +
                           with_thousands(static_cast<std::int64_t>(events.size())) +
                           (o.after.empty() ? " shown" : " behind that place shown") +
                           (next.empty() ? "" : ", and there are more: --after " + next) + "; read " +
                           counted(s["events_read"].get<std::int64_t>(), "event") + ", left out " +
                           with_thousands(s["blocks_left_out"].get<std::int64_t>()) + " of " +
                           counted(s["blocks"].get<std::int64_t>(), "block") + " unread")
              << "\n";
  }
  return damaged ? kFoundProblems : kFine;
}

const CommandRegistration search_command(
    "search", "Finds the newest events that satisfy a condition",
    "dingle search \"status >= 500\" --from 6h --limit 5", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<SearchOptions>();
      o->query.add_to(app);
      app.option("--limit", o->limit, "At most so many").with_default();
      app.flag("--oldest", o->oldest, "The oldest, oldest first");
      app.flag("--all", o->all,
               "All of them, written as they come, with -o ndjson or csv; ends with 1 if it is not all");
      app.flag("--defuse", o->defuse,
               "For --all as CSV: texts that a spreadsheet takes for formulas get a quote before them");
      app.option("--after", o->after, "Go on behind the last one that was shown, as it says");
      app.flag("--ids", o->ids, "With each event's dingle.id");
      app.option("--around", o->around,
                 "The event with that id, and what stood around it in its file or came with it");
      app.option("--lines", o->lines, "For --around: so many before it, and as many behind it")
          .with_default();
      app.flag("--full", o->full, "All fields of each event, with their types");
      app.option("--fields", o->fields, "Only these fields, as columns").separated_by(',');
      return [o](Client& client) { return run_search(client, *o); };
    });

}  // namespace
}  // namespace dingle

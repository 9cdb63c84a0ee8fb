// dingle search: the newest events that satisfy a condition.
#include <iostream>

#include "client/events.h"
#include "client/export.h"
#include "client/query_options.h"

namespace dingle {
namespace {

struct SearchOptions {
  QueryOptions query;
  std::size_t limit = 20;
  bool full = false, oldest = false, all = false, defuse = false;
  std::string after;
  std::vector<std::string> fields;
};

int run_search(Client& client, const SearchOptions& o) {
  Parameters parameters = o.query.parameters(client);
  if (o.full) parameters.emplace("types", "true");
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
    for (std::size_t i = 0; i < events.size(); ++i) {
      if (o.full)
        std::cout << (i ? "\n" : "") << event_in_full(client, events[i]);
      else
        std::cout << event_line(client, events[i]) << "\n";
    }
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
      app.flag("--full", o->full, "All fields of each event, with their types");
      app.option("--fields", o->fields, "Only these fields, as columns").separated_by(',');
      return [o](Client& client) { return run_search(client, *o); };
    });

}  // namespace
}  // namespace dingle

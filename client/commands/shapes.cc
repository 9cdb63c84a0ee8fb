// dingle shapes: stored events by the shape of their text, now and before.
#include <iostream>

#include "client/query_options.h"
#include "client/table.h"

namespace dingle {
namespace {

struct ShapesOptions {
  QueryOptions query;
  std::string against, of;
  std::size_t limit = 30;
};

// A length of time as it is, a time as the API takes it.
std::string period(const Client& client, const std::string& text) {
  const bool length = !text.empty() && text.find_first_of("-:T") == std::string::npos;
  return length ? text : asked_time(client, text);
}

int run_shapes(Client& client, const ShapesOptions& o) {
  Parameters parameters = o.query.parameters(client);
  parameters.emplace("limit", std::to_string(o.limit));
  if (!o.against.empty()) parameters.emplace("against", period(client, o.against));
  if (!o.of.empty()) parameters.emplace("of", o.of);
  const Answer a = call(client, "GET", "/v1/shapes", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body), compares = a.body.contains("from");
  std::vector<Json> rows;
  for (Json row : a.body["shapes"]) {
    if (client.output == OutputForm::table) {
      if (row.value("state", "") == "same") row["state"] = "";
      row["example"] = one_line(row["example"].get<std::string>());
      row["shape"] = one_line(row["shape"].get<std::string>());
      if (row["example"] == row["shape"]) row["example"] = "";
      row["shape"] =
          cut_for(client, row["shape"].get<std::string>(), std::max<std::size_t>(30, client.width / 2));
    }
    rows.push_back(std::move(row));
  }
  using Look = Column::Look;
  std::vector<Column> columns{{"events", compares ? "NOW" : "EVENTS", Look::count}};
  if (compares) columns.insert(columns.end(), {{"before", "BEFORE", Look::count}, {"state", "CHANGE"}});
  columns.insert(columns.end(), {{"shape", "SHAPE"}, {"example", "EXAMPLE"}});
  print_rows(client, columns, rows);
  if (client.output == OutputForm::table) {
    const auto known = a.body["known"].get<std::int64_t>();
    std::string said = counted(known, "shape");
    if (static_cast<std::int64_t>(rows.size()) < known)
      said += ", of which " + std::to_string(rows.size()) + " are shown (--limit)";
    const auto others = a.body["others"].get<std::int64_t>() + a.body.value("others_before", std::int64_t{0});
    if (others != 0) said += "; " + counted(others, "event") + " of further shapes";
    if (compares) {
      const Json& since = a.body["against"];
      said += "; now: " + shown_second(client, a.body["from"].get<std::string>()) + " to " +
              shown_second(client, a.body["to"].get<std::string>()) + ", before: since " +
              (since.is_null() ? "the first" : shown_second(client, since.get<std::string>()));
    }
    said += "; of " + counted(a.body["scanned"]["matched"].get<std::int64_t>(), "event");
    std::cout << paint(client, "2", said) << "\n";
  }
  return damaged ? kFoundProblems : kFine;
}

const CommandRegistration shapes_command(
    "shapes", "Shows stored events by the shape of their text; what is new and gone against before",
    "dingle shapes \"severity_number >= 17\" --from 1h --against 1d", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<ShapesOptions>();
      o->query.add_to(app);
      app.option("--against", o->against,
                 "Compare with the time before --from: so long before it (1d), or since then; --from is 1h "
                 "unless given");
      app.option("--of", o->of, "The text that is looked at: body unless given");
      app.option("--limit", o->limit, "At most so many shapes").with_default();
      return [o](Client& client) { return run_shapes(client, *o); };
    });

}  // namespace
}  // namespace dingle

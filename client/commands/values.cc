// dingle values: the most frequent values of a field.
#include <fmt/format.h>

#include <iostream>

#include "client/query_options.h"
#include "client/table.h"

namespace dingle {
namespace {

struct ValuesOptions {
  std::string field;
  QueryOptions query;
  std::size_t limit = 20;
  bool as_stored = false;
};

int run_values(Client& client, const ValuesOptions& o) {
  Parameters parameters = o.query.parameters(client);
  parameters.emplace("field", o.field);
  parameters.emplace("limit", std::to_string(o.limit));
  if (o.as_stored) parameters.emplace("as_stored", "true");
  Answer a = call(client, "GET", "/v1/values", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body);
  std::vector<Json> rows(a.body["values"].begin(), a.body["values"].end());
  if (client.output != OutputForm::table) {
    print_rows(client, {{"value", ""}, {"count", ""}}, rows);
    return damaged ? kFoundProblems : kFine;
  }
  std::int64_t all = a.body["others"].get<std::int64_t>();
  for (const Json& row : rows) all += row["count"].get<std::int64_t>();
  for (Json& row : rows) {
    const double share = static_cast<double>(row["count"].get<std::int64_t>()) /
                         static_cast<double>(std::max<std::int64_t>(all, 1));
    row["share"] = fmt::format("{:5.1f} %", share * 100);
    std::string bar;
    for (int i = 0; i < static_cast<int>(share * 40 + 0.5); ++i) bar += "▬";
    row["bar"] = bar;
    if (row["value"].is_string() && row["value"].get<std::string>().empty()) row["value"] = "(empty)";
  }
  print_rows(client,
             {{"count", "EVENTS", Column::Look::count}, {"share", "SHARE"}, {"bar", ""}, {"value", o.field}},
             rows);
  std::cout
      << paint(client, "2",
               fmt::format(
                   "{} in {}{}{}{}{}", counted(a.body["distinct"].get<std::int64_t>(), "value"),
                   counted(all, "event"),
                   a.body["others"] == 0 ? ""
                                         : "; " + counted(a.body["others"].get<std::int64_t>(), "event") +
                                               " with values not shown",
                   a.body["without"] == 0
                       ? ""
                       : "; " + counted(a.body["without"].get<std::int64_t>(), "event lacks", "events lack") +
                             " the field",
                   a.body["weighted"].get<bool>() ? "; counted with what events stand for" : "",
                   a.body["approximate"].get<bool>() ? "; approximate: there are more values than are kept"
                                                     : ""))
      << "\n";
  return damaged ? kFoundProblems : kFine;
}

const CommandRegistration values_command(
    "values", "Counts the most frequent values of a field",
    "dingle values http.response.status_code \"service.name = 'ticket-gate'\"", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<ValuesOptions>();
      app.option("FIELD", o->field, "The field").required();
      o->query.add_to(app);
      app.option("--limit", o->limit, "At most so many").with_default();
      app.flag("--as-stored", o->as_stored, "Count each stored event once, whatever it stands for");
      return [o](Client& client) { return run_values(client, *o); };
    });

}  // namespace
}  // namespace dingle

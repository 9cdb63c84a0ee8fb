// dingle fields: the fields of stored events.
#include <fmt/format.h>

#include <iostream>

#include "client/query_options.h"
#include "client/table.h"

namespace dingle {
namespace {

struct FieldsOptions {
  QueryOptions query;
  std::string like;
};

std::string joined(const Json& texts, const char* between) {
  std::string all;
  for (const Json& text : texts) all += (all.empty() ? "" : between) + one_line(text.get<std::string>());
  return all;
}

// "int", or where there are several: "int 97 %, text 3 %".
std::string types_of(const Json& field) {
  const Json& types = field["types"];
  if (types.size() == 1) return types.begin().key();
  std::string all;
  for (const auto& [kind, events] : types.items())
    all +=
        (all.empty() ? "" : ", ") + kind +
        fmt::format(" {:.0f} %", 100 * events.get<double>() / std::max(1.0, field["events"].get<double>()));
  return all;
}

int run_fields(Client& client, const FieldsOptions& o) {
  const Answer a = call(client, "GET", "/v1/fields", o.query.parameters(client));
  if (!a.ok) return kFoundProblems;
  for (const Json& p : a.body["problems"]) std::cerr << "dingle: " << one_line(p.get<std::string>()) << "\n";
  std::vector<Json> rows;
  std::size_t clashes = 0;
  bool any_asked = false;
  for (Json field : a.body["fields"]) {
    if (!o.like.empty() && field["field"].get<std::string>().find(o.like) == std::string::npos) continue;
    clashes += field["types"].size() > 1;
    any_asked = any_asked || !field["last_asked"].is_null();
    if (client.output == OutputForm::table) {
      if (!field["last_asked"].is_null())
        field["last_asked"] = shown_second(client, field["last_asked"].get<std::string>());
      field["share"] = fmt::format(
          "{:5.1f} %", 100 * field["events"].get<double>() / std::max(1.0, a.body["events"].get<double>()));
      field["types"] = types_of(field);
      field["made_by"] = joined(field["made_by"], ", ");
      field["examples"] = joined(field["examples"], " · ");
    }
    rows.push_back(std::move(field));
  }
  using Look = Column::Look;
  std::vector<Column> columns{{"field", "FIELD"},
                              {"types", "TYPE"},
                              {"share", "SHARE"},
                              {"events", "EVENTS", Look::count},
                              {"bytes", "BYTES", Look::bytes}};
  if (any_asked || client.output != OutputForm::table) columns.push_back({"last_asked", "ASKED"});
  columns.push_back({"made_by", "MADE BY"});
  columns.push_back({"examples", "VALUES"});
  print_rows(client, columns, rows);
  if (client.output == OutputForm::table) {
    std::string last = counted(static_cast<std::int64_t>(rows.size()), "field") + " in " +
                       counted(a.body["events"].get<std::int64_t>(), "event");
    if (clashes != 0)
      last += "; " + counted(static_cast<std::int64_t>(clashes), "field has", "fields have") +
              " more than one type";
    if (a.body["more"].get<bool>() || a.body.contains("cut_at_bytes")) last += "; there are more";
    if (!a.body["complete"].get<bool>()) last += "; the time was over before all was read (--within 5m)";
    if (rows.empty() && !o.like.empty()) last += " whose names hold `" + o.like + "`";
    std::cout << paint(client, "2", last) << "\n";
  }
  return a.body["problems"].empty() ? kFine : kFoundProblems;
}

const CommandRegistration fields_command(
    "fields", "Lists the fields of stored events: types, shares, values, who makes them",
    "dingle fields --from 1d --like address", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<FieldsOptions>();
      app.option("--from", o->query.from, "From this event time, or how long ago: 15m");
      app.option("--to", o->query.to, "Before this event time");
      app.option("--index", o->query.indexes, "Only these indexes; * for any text");
      app.option("--destination", o->query.destination, "Only this destination's indexes");
      app.option("--within", o->query.within, "How long it may take: 60s unless given");
      app.option("--like", o->like, "Only fields whose names hold this");
      return [o](Client& client) { return run_fields(client, *o); };
    });

}  // namespace
}  // namespace dingle

// dingle indexes: what the store holds; delete some.
#include <iostream>

#include "client/connection.h"
#include "client/job.h"
#include "client/table.h"
#include "client/times.h"

namespace dingle {
namespace {

struct IndexesOptions {
  std::vector<std::string> indexes;
  std::string destination;
  bool no_wait = false, removed = false;
};

int list(const Client& client, const IndexesOptions& o) {
  Parameters parameters;
  if (!o.destination.empty()) parameters.emplace("destination", o.destination);
  const Answer a = call(client, "GET", "/v1/indexes", parameters);
  if (!a.ok) return kFoundProblems;
  using Look = Column::Look;
  const Json& gone = a.body["removed"];
  if (o.removed) {
    print_rows(client,
               {{"name", "INDEX"},
                {"destination", "DESTINATION"},
                {"events", "EVENTS", Look::count},
                {"bytes", "BYTES", Look::bytes},
                {"at", "REMOVED", Look::time},
                {"why", "WHY"}},
               {gone.begin(), gone.end()});
    return kFine;
  }
  print_rows(client,
             {{"name", "INDEX"},
              {"destination", "DESTINATION"},
              {"events", "EVENTS", Look::count},
              {"bytes", "ON DISK", Look::bytes},
              {"blocks", "BLOCKS", Look::count},
              {"first", "FIRST EVENT", Look::time},
              {"last", "LAST EVENT", Look::time},
              {"goes", "GOES", Look::time}},
             {a.body["indexes"].begin(), a.body["indexes"].end()});
  if (client.output == OutputForm::table && !gone.empty()) {
    std::int64_t events = 0;
    for (const Json& one : gone) events += one["events"].get<std::int64_t>();
    std::cout << "\nremoved: " << counted(static_cast<std::int64_t>(gone.size()), "index", "indexes")
              << " with " << counted(events, "event") << ", the last one "
              << gone[0]["name"].get<std::string>() << " at "
              << shown_second(client, gone[0]["at"].get<std::string>()) << " (dingle indexes --removed)\n";
  }
  return kFine;
}

int remove(const Client& client, const IndexesOptions& o) {
  Json body{{"indexes", o.indexes}};
  if (!o.destination.empty()) body["destination"] = o.destination;
  const Answer a = call(client, "POST", "/v1/indexes/delete", {}, true, dump(body));
  if (!a.ok) return kFoundProblems;
  return see_to_its_end(client, a.body, o.no_wait, [](const Json& job) {
    const Json& result = job["result"];
    std::string text = "deleted ";
    const Json deleted = result.value("deleted", Json::array());
    if (deleted.empty()) return text + "nothing";
    for (const Json& name : deleted) text += (text.size() > 8 ? ", " : "") + name.get<std::string>();
    return text + ": " + counted(result["events"].get<std::int64_t>(), "event");
  });
}

const CommandRegistration indexes_command(
    "indexes", "Lists the indexes, or deletes some", "dingle indexes delete 'gate-2026-10-*'", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<IndexesOptions>();
      app.option("--destination", o->destination, "Only of this destination");
      app.flag("--removed", o->removed, "Those that went: by retention, or deleted");
      const Arguments removing = app.command("delete", "Deletes indexes, those that are there now",
                                             "dingle indexes delete gate-2026-11-22");
      removing.option("INDEX", o->indexes, "Their names, `*` for any text").required();
      removing.option("--destination", o->destination, "Only in this destination");
      removing.flag("--no-wait", o->no_wait, "Start the job, and do not wait for its end");
      return [=](Client& client) { return removing.given() ? remove(client, *o) : list(client, *o); };
    });

}  // namespace
}  // namespace dingle

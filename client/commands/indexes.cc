// dingle indexes: what the store holds; delete an index.
#include <iostream>

#include "client/connection.h"
#include "client/table.h"

namespace dingle {
namespace {

struct IndexesOptions {
  std::string remove, destination;
};

int run_indexes(Client& client, const IndexesOptions& o) {
  Parameters parameters;
  if (!o.destination.empty()) parameters.emplace("destination", o.destination);
  if (!o.remove.empty()) {
    Answer a = call(client, "DELETE", "/v1/indexes/" + o.remove, parameters);
    if (a.ok) std::cout << "deleted " << o.remove << "\n";
    return a.ok ? kFine : kFoundProblems;
  }
  Answer a = call(client, "GET", "/v1/indexes", parameters);
  if (!a.ok) return kFoundProblems;
  using Look = Column::Look;
  print_rows(client,
             {{"name", "INDEX"},
              {"destination", "DESTINATION"},
              {"events", "EVENTS", Look::count},
              {"bytes", "ON DISK", Look::bytes},
              {"blocks", "BLOCKS", Look::count},
              {"first", "FIRST EVENT", Look::time},
              {"last", "LAST EVENT", Look::time}},
             {a.body["indexes"].begin(), a.body["indexes"].end()});
  return kFine;
}

const CommandRegistration indexes_command("indexes", "Lists the indexes, or deletes one",
                                          "dingle indexes --delete gate-2026-11-22", true,
                                          [](const Arguments& app) -> std::function<int(Client&)> {
                                            auto o = std::make_shared<IndexesOptions>();
                                            app.option("--delete", o->remove, "Delete this index");
                                            app.option("--destination", o->destination,
                                                       "Only of this destination");
                                            return [o](Client& client) { return run_indexes(client, *o); };
                                          });

}  // namespace
}  // namespace dingle

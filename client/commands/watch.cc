// dingle watch: events as they arrive.
#include <chrono>
#include <iostream>

#include "client/connection.h"
#include "client/events.h"

namespace dingle {
namespace {

struct WatchOptions {
  std::string where, pipeline;
  std::size_t limit = 0;
};

int run_watch(Client& client, const WatchOptions& o) {
  Parameters parameters;
  if (!o.where.empty()) parameters.emplace("where", o.where);
  if (!o.pipeline.empty()) parameters.emplace("pipeline", o.pipeline);
  std::size_t shown = 0;
  return stream(client, "/v1/watch", parameters, [&](const std::string& line) {
    if (client.output == OutputForm::ndjson || client.output == OutputForm::json) {
      std::cout << line << std::endl;
    } else {
      const Json event = parse_json(line);
      if (event.is_object() && event.contains("dingle.missed"))
        std::cerr << "dingle: too slow: " << event["dingle.missed"] << " events were not shown\n";
      else
        std::cout << event_line(client, event) << std::endl;
    }
    return o.limit == 0 || ++shown < o.limit;
  });
}

const CommandRegistration watch_command("watch", "Shows events as they arrive, until Ctrl-C",
                                        "dingle watch \"severity_number >= 17\"", true,
                                        [](const Arguments& app) -> std::function<int(Client&)> {
                                          auto o = std::make_shared<WatchOptions>();
                                          app.option("WHERE", o->where,
                                                     "Only events that satisfy this condition");
                                          app.option("--pipeline", o->pipeline,
                                                     "Only events of this pipeline");
                                          app.option("--limit", o->limit, "End after so many");
                                          return [o](Client& client) { return run_watch(client, *o); };
                                        });

}  // namespace
}  // namespace dingle

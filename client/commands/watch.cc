// dingle watch: events as they arrive.
#include <chrono>
#include <iostream>

#include "client/connection.h"
#include "client/events.h"

namespace dingle {
namespace {

struct WatchOptions {
  std::string where, pipeline;
  bool dropped = false;
  std::size_t limit = 0;
};

// By which step an event was dropped: "gate: 3 drop", or that no condition of `to` held.
std::string dropped_by(const Client& client, const Json& event) {
  const auto text = [&](const char* name) {
    return event.contains(name) ? one_line(json_text(event[name])) : "";
  };
  const bool by_step = event.contains("dingle.step");
  std::string by = text("dingle.pipeline") + ": " +
                   (by_step ? text("dingle.step") + " " + text("dingle.dropped_by") : "to no destination");
  constexpr std::size_t kWidth = 26;
  by = cut_to_width(by, kWidth);
  return paint(client, "33", by + std::string(kWidth - std::min(kWidth, display_width(by)), ' ')) + "  ";
}

int run_watch(Client& client, const WatchOptions& o) {
  if (client.output == OutputForm::csv) {
    std::cerr << "dingle: events as they come have no common columns for csv\n  = -o ndjson, or `dingle "
                 "search -o csv --fields ...`\n";
    return kUsage;
  }
  Parameters parameters;
  if (!o.where.empty()) parameters.emplace("where", o.where);
  if (!o.pipeline.empty()) parameters.emplace("pipeline", o.pipeline);
  if (o.dropped) parameters.emplace("dropped", "true");
  std::size_t shown = 0;
  return stream(client, "/v1/watch", parameters, [&](const std::string& line) {
    if (client.output == OutputForm::ndjson || client.output == OutputForm::json) {
      std::cout << line << std::endl;
    } else {
      const Json event = parse_json(line);
      if (event.is_object() && event.contains("dingle.missed"))
        std::cerr << "dingle: too slow: " << event["dingle.missed"] << " events were not shown\n";
      else
        std::cout << (o.dropped ? dropped_by(client, event) : "")
                  << event_line(client, event, o.dropped ? 28 : 0) << std::endl;
    }
    return o.limit == 0 || ++shown < o.limit;
  });
}

const CommandRegistration watch_command(
    "watch", "Shows events as they arrive, until Ctrl-C", "dingle watch \"severity_number >= 17\"", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<WatchOptions>();
      app.option("WHERE", o->where, "Only events that satisfy this condition");
      app.option("--pipeline", o->pipeline, "Only events of this pipeline");
      app.flag("--dropped", o->dropped, "Instead: what steps drop, and what goes to no destination");
      app.option("--limit", o->limit, "End after so many");
      return [o](Client& client) { return run_watch(client, *o); };
    });

}  // namespace
}  // namespace dingle

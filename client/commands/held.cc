// dingle held: lines that were kept sealed, since they could not be taken apart.
#include <iostream>

#include "client/events.h"
#include "client/query_options.h"
#include "client/table.h"
#include "client/times.h"

namespace dingle {
namespace {

struct HeldOptions {
  QueryOptions query;
  std::size_t limit = 50;
};

int run_held(Client& client, const HeldOptions& o) {
  Parameters parameters = o.query.parameters(client);
  parameters.emplace("limit", std::to_string(o.limit));
  const Answer a = call(client, "GET", "/v1/held", parameters);
  if (!a.ok) return kFoundProblems;
  const bool damaged = report_problems(a.body);
  const std::vector<Json> lines(a.body["lines"].begin(), a.body["lines"].end());
  if (client.output != OutputForm::table) {
    print_rows(client, columns_of(lines), lines);
  } else {
    for (const Json& line : lines) {
      const std::string pipeline = line.value("dingle.pipeline", "");
      std::cout << paint(client, "2",
                         shown_second(client, line["timestamp"]) + "  " + one_line(pipeline) + "  ")
                << (line["line"].is_null() ? paint(client, "33", "(sealed with another key)")
                                           : one_line(json_text(line["line"])))
                << "\n"
                << paint(client, "2", "  " + one_line(line.value("dingle.unmatched", ""))) << "\n";
    }
    const auto closed = a.body["closed"].get<std::int64_t>();
    std::cout << paint(client, "2",
                       counted(static_cast<std::int64_t>(lines.size()), "line") + " held" +
                           (closed == 0 ? ""
                                        : "; " + counted(closed, "line was", "lines were") +
                                              " sealed with another key"))
              << "\n";
  }
  return damaged ? kFoundProblems : kFine;
}

const CommandRegistration held_command(
    "held", "Shows lines that were kept sealed, since a pipeline that hides values could not take them apart",
    "dingle held --from 1h", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<HeldOptions>();
      o->query.add_to(app);
      app.option("--limit", o->limit, "At most so many").with_default();
      return [o](Client& client) { return run_held(client, *o); };
    });

}  // namespace
}  // namespace dingle

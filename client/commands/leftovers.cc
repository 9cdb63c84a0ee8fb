// dingle leftovers: lines that no pipeline took, by source and shape.
#include <iostream>

#include "client/connection.h"
#include "client/shapes.h"

namespace dingle {
namespace {

struct LeftoversOptions {
  std::string source;
  std::size_t limit = 20;
};

// Why a source's lines may be left over.
std::string reason(const Json& source) {
  std::string names;
  const Json& asked = source["asked"];
  for (const Json& name : asked) names += (names.empty() ? "" : ", ") + one_line(name.get<std::string>());
  if (asked.empty()) return "no pipeline takes from it";
  return "not let in by the conditions of " + names;
}

void print_source(const Client& client, const Json& source) {
  const Json& shapes = source["shapes"];
  std::int64_t sampled = source["others"].get<std::int64_t>();
  for (const Json& s : shapes) sampled += s["count"].get<std::int64_t>();
  std::cout << paint(client, "1;33",
                     one_line(source["source"].get<std::string>()) + ": " + counted(sampled, "line"))
            << paint(client, "2", "  " + reason(source)) << "\n";
  for (const Json& s : shapes) {
    const std::int64_t count = s["count"].get<std::int64_t>();
    std::cout << "  " << paint(client, "33", counted(count, "line"))
              << paint(client, "2", "  " + time_range(client, s)) << "\n    "
              << cut_for(client, one_line(s["lines"][0].get<std::string>()),
                         std::max<std::size_t>(40, client.width - 6))
              << "\n";
    print_drafts(client, s, 4);
  }
  print_rest(source);
  std::cout << "\n";
}

int run_leftovers(const Client& client, const LeftoversOptions& o) {
  Parameters parameters{{"limit", std::to_string(o.limit)}};
  if (!o.source.empty()) parameters.emplace("source", o.source);
  const Answer answer = call(client, "GET", "/v1/leftovers", parameters);
  if (!answer.ok) return answer.status == 404 ? kUsage : kFoundProblems;
  bool any = false;
  std::vector<Json> rows;
  std::int64_t rescued = 0;
  for (const Json& source : answer.body["sources"]) {
    any = any || !source["shapes"].empty();
    rescued += source["leftovers"].get<std::int64_t>() - source["left"].get<std::int64_t>();
    for (Json row : source["shapes"]) {
      row["source"] = source["source"];
      row["asked"] = source["asked"];
      rows.push_back(std::move(row));
    }
    if (client.output == OutputForm::table && !source["shapes"].empty()) print_source(client, source);
  }
  const int status = any ? kFoundProblems : kFine;
  if (client.output != OutputForm::table) {
    print_rows(client,
               {{"source", ""},
                {"shape", ""},
                {"count", ""},
                {"first", ""},
                {"last", ""},
                {"asked", ""},
                {"drafts", ""},
                {"lines", ""}},
               rows);
    return status;
  }
  if (!any)
    std::cout << paint(client, "1;32", "no line was left over") << " since the last reload"
              << (o.source.empty() ? "" : ", of " + one_line(o.source)) << "\n";
  if (rescued > 0)
    std::cout << counted(rescued, "line was", "lines were")
              << " taken by pipelines from `leftovers`, in all\n";
  return status;
}

const CommandRegistration leftovers_command(
    "leftovers", "Shows lines that no pipeline took, by source and shape, with a draft for each",
    "dingle leftovers", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<LeftoversOptions>();
      app.option("--source", o->source, "Only those of this source");
      app.option("--limit", o->limit, "At most so many shapes of each source").with_default();
      return [o](Client& client) { return run_leftovers(client, *o); };
    });

}  // namespace
}  // namespace dingle

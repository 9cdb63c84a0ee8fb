// dingle unmatched: lines that no template of a pipeline matched, by shape, and what would match them.
#include <iostream>

#include "client/connection.h"
#include "client/shapes.h"

namespace dingle {
namespace {

int run_unmatched(const Client& client, const std::string& pipeline, std::size_t limit) {
  const Answer answer =
      call(client, "GET", "/v1/unmatched", {{"pipeline", pipeline}, {"limit", std::to_string(limit)}});
  if (!answer.ok) return answer.status == 404 ? kUsage : kFoundProblems;
  const Json& shapes = answer.body["shapes"];
  if (client.output != OutputForm::table) {
    std::vector<Json> rows(shapes.begin(), shapes.end());
    print_rows(client,
               {{"shape", ""},
                {"count", ""},
                {"first", ""},
                {"last", ""},
                {"column", ""},
                {"reason", ""},
                {"drafts", ""},
                {"lines", ""}},
               rows);
    return shapes.empty() ? kFine : kFoundProblems;
  }
  if (shapes.empty()) {
    std::cout << paint(client, "1;32", "no line of " + pipeline + " was left unmatched")
              << " since the last reload\n";
    return kFine;
  }
  for (const Json& s : shapes) {
    const std::int64_t count = s["count"].get<std::int64_t>();
    std::cout << paint(client, "1;33", counted(count, "line"))
              << paint(client, "2", "  " + time_range(client, s)) << "\n";
    const std::string line = one_line(s["lines"][0].get<std::string>());
    const std::size_t column = s["column"].get<std::size_t>();
    std::cout << "  " << cut_for(client, line, std::max<std::size_t>(40, client.width - 4)) << "\n";
    std::cout << "  " << (column > 0 && column < client.width - 20 ? std::string(column - 1, ' ') : "")
              << paint(client, "1;31", "^ ") << s["reason"].get<std::string>() << "\n";
    print_drafts(client, s, 2);
    std::cout << "\n";
  }
  print_rest(answer.body);
  return kFoundProblems;
}

const CommandRegistration unmatched_command(
    "unmatched",
    "Shows lines of a pipeline that nothing matched, by shape, with the reason and a draft for each",
    "dingle unmatched gate", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto pipeline = std::make_shared<std::string>();
      auto limit = std::make_shared<std::size_t>(20);
      app.option("PIPELINE", *pipeline, "The pipeline").required();
      app.option("--limit", *limit, "At most so many shapes").with_default();
      return [pipeline, limit](Client& client) { return run_unmatched(client, *pipeline, *limit); };
    });

}  // namespace
}  // namespace dingle

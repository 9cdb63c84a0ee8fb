#include "client/shapes.h"

#include <algorithm>
#include <iostream>

#include "client/times.h"

namespace dingle {

std::string time_range(const Client& client, const Json& shape) {
  auto when = [&](const char* end) { return shown_second(client, shape[end]); };
  return "from " + when("first") + (shape["count"] == 1 ? "" : " to " + when("last"));
}

void print_drafts(const Client& client, const Json& shape, std::size_t indent) {
  const std::string blanks(indent, ' ');
  for (const Json& draft : shape["drafts"])
    std::cout << blanks << paint(client, "2", "draft: ")
              << coloured_template(client, one_line(draft.get<std::string>()),
                                   std::max<std::size_t>(40, client.width - indent - 8), indent + 7)
              << "\n";
}

void print_rest(const Json& answer) {
  const std::size_t known = answer["shapes_known"].get<std::size_t>(), shown = answer["shapes"].size();
  if (known > shown)
    std::cout << "and " << counted(static_cast<std::int64_t>(known - shown), "more shape") << " (--limit)\n";
  if (answer["others"] != 0)
    std::cout << counted(answer["others"].get<std::int64_t>(), "line was", "lines were")
              << " of shapes too rare and too many to be remembered\n";
}

}  // namespace dingle

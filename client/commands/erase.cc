// dingle erase: stored events, for good; with --dry it only counts them.
#include <iostream>

#include "client/job.h"
#include "client/stored_choice.h"
#include "client/table.h"

namespace dingle {
namespace {

void print_erased(const Client& client, const Json& job, bool dry) {
  const Json& r = job["result"];
  const auto n = [&](const char* name) { return r.value(name, std::int64_t{0}); };
  const std::string events = counted(n("erased"), "event"), letters = counted(n("letters"), "dead letter"),
                    samples = counted(n("samples"), "saved line");
  std::cout << (dry ? "would be erased: " : "erased: ") << events << ", " << letters << ", " << samples
            << "\n";
  tell_notes(r);
  std::vector<Json> rows;
  const Json indexes = r.value("by_index", Json::object());
  for (const auto& [index, count] : indexes.items())
    if (count != 0) rows.push_back({{"index", index}, {"events", count}});
  if (!rows.empty()) {
    std::cout << "\n";
    print_rows(client, {{"index", "INDEX"}, {"events", "EVENTS", Column::Look::count}}, rows);
  }
  const Json left = r.value("left", Json::array());
  if (left.empty()) return;
  std::cout << "\n" << paint(client, "1", dry ? "What it cannot reach" : "What it did not reach") << "\n";
  for (const Json& one : left) std::cout << "- " << one.get<std::string>() << "\n";
}

const CommandRegistration erase_command("erase",
                                        "Erases stored events for good, and tells what it cannot reach",
                                        "dingle erase \"card = '4111 1111 1111 1111'\" --dry", true,
                                        [](const Arguments& app) -> std::function<int(Client&)> {
                                          auto o = std::make_shared<StoredChoiceOptions>();
                                          o->add_to(app, "Only count them, and tell what it cannot reach");
                                          return [=](Client& client) {
                                            return run_with_choice(
                                                client, *o, "/v1/erase",
                                                [&](const Json& job) { print_erased(client, job, o->dry); });
                                          };
                                        });

}  // namespace
}  // namespace dingle

// dingle retry: lets a destination be tried at once.
#include <chrono>
#include <iostream>
#include <thread>

#include "client/connection.h"
#include "client/table.h"

namespace dingle {
namespace {

Json destination(const Client& client, const std::string& name) {
  const Answer status = call(client, "GET", "/v1/status");
  if (status.ok)
    for (const Json& d : status.body["destinations"])
      if (d["name"] == name) return d;
  return nullptr;
}

// What became of the try is known a moment later.
int run_retry(const Client& client, const std::string& name) {
  const Answer answer = call(client, "POST", "/v1/retry", {}, true, dump({{"destination", name}}));
  if (!answer.ok) return answer.status == 404 ? kUsage : kFoundProblems;
  Json d;
  for (int i = 0; i < 20; ++i) {
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
    d = destination(client, name);
    if (d.is_null()) return kFoundProblems;
    if (!d["failing"].get<bool>()) break;
  }
  const bool failing = d["failing"].get<bool>();
  std::cout << name
            << (failing ? paint(client, "31", " does not accept yet") : paint(client, "32", " accepts"))
            << "; " << counted(d["waiting"].get<std::int64_t>(), "event waits", "events wait")
            << (failing && d.contains("reason") && !d["reason"].is_null()
                    ? ": " + one_line(json_text(d["reason"]))
                    : "")
            << "\n";
  return failing ? kFoundProblems : kFine;
}

const CommandRegistration retry_command("retry",
                                        "Lets a destination be tried at once that waits before its next try",
                                        "dingle retry operations", false,
                                        [](const Arguments& app) -> std::function<int(Client&)> {
                                          auto name = std::make_shared<std::string>();
                                          app.option("DESTINATION", *name, "Which one").required();
                                          return [name](Client& client) { return run_retry(client, *name); };
                                        });

}  // namespace
}  // namespace dingle

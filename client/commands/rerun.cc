// dingle rerun: stored events through their pipelines as they are now; with --dry it shows what would become of them.
#include <algorithm>
#include <iostream>
#include <utility>

#include "client/events.h"
#include "client/job.h"
#include "client/stored_choice.h"
#include "client/table.h"

namespace dingle {
namespace {

struct Told {
  const char *name, *would, *is;
};
constexpr Told kTold[] = {
    {"unchanged", "would stay as they are: the same comes of them",
     "stay as they are: the same comes of them"},
    {"dropped", "would be removed: a step drops them now", "are removed: a step drops them now"},
    {"unmatched", "would stay as they are: a step cannot work on them",
     "stay as they are: a step cannot work on them"},
    {"not_taken", "would stay as they are: the pipeline does not let them in",
     "stay as they are: the pipeline does not let them in"},
    {"altered", "cannot be taken apart again: their body is not the line as it came",
     "cannot be taken apart again: their body is not the line as it came"},
    {"of_steps", "were made by a step of others, and stay", "were made by a step of others, and stay"},
    {"no_pipeline", "stay as they are: their pipeline or source is gone",
     "stay as they are: their pipeline or source is gone"}};

// What differs between an event and what comes of it.
void print_example(const Client& client, const Json& example) {
  const Json& before = example["before"];
  std::cout << "  "
            << paint(client, "2", one_line(cut_for(client, before.value("body", ""), client.width - 2)))
            << "\n";
  if (const std::string why = example.value("why", ""); !why.empty())
    std::cout << "    " << one_line(cut_for(client, why, client.width - 4)) << "\n";
  std::vector<Json> rows;
  const auto text = [](const Json& event, const std::string& name) {
    return event.contains(name) ? json_text(event[name]) : std::string();
  };
  for (const Json& after : example["after"]) {
    std::vector<std::string> names;
    for (const Json* event : {&before, &after})
      for (const auto& [name, value] : event->items())
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    for (const std::string& name : names)
      if (name != "dingle.configuration" && text(before, name) != text(after, name))
        rows.push_back({{"field", "  " + name},
                        {"before", one_line(text(before, name))},
                        {"after", one_line(text(after, name))}});
  }
  if (!rows.empty()) print_rows(client, {{"field", "  FIELD"}, {"before", "NOW"}, {"after", "THEN"}}, rows);
}

void print_result(const Client& client, const Json& job, bool dry) {
  const Json& r = job["result"];
  const auto n = [&](const char* name) { return r.value(name, std::int64_t{0}); };
  const auto line = [&](std::int64_t number, const std::string& what) {
    const std::string count = with_thousands(number);
    std::cout << std::string(count.size() < 12 ? 12 - count.size() : 0, ' ') << count << "  " << what << "\n";
  };
  line(n("read"), n("read") == 1 ? "event was read" : "events were read");
  if (n("replaced") != 0) {
    std::string what = dry ? "would be stored anew" : "are stored anew";
    if (n("made") != n("replaced")) what += ", as " + counted(n("made"), "event");
    if (n("moved") != 0) what += "; " + with_thousands(n("moved")) + " of them in another index";
    line(n("replaced"), what);
  }
  for (const Told& t : kTold)
    if (n(t.name) != 0) line(n(t.name), dry ? t.would : t.is);
  tell_notes(r);
  const Json ways = r.value("moves", Json::array());
  std::vector<Json> moves(ways.begin(), ways.end());
  if (!moves.empty()) {
    std::cout << "\n";
    constexpr std::size_t kShown = 20;
    const std::size_t all = moves.size();
    moves.resize(std::min(all, kShown));
    print_rows(client,
               {{"from", "FROM INDEX"}, {"to", "TO INDEX"}, {"events", "EVENTS", Column::Look::count}},
               moves);
    if (all > kShown) std::cout << "and " << all - kShown << " more ways; -o json has them\n";
  }
  const Json examples = r.value("examples", Json::array());
  for (const auto& [what, title] :
       {std::pair("moved", "stored anew in another index, for instance"),
        std::pair("replaced", "stored anew, for instance"), std::pair("dropped", "dropped, for instance"),
        std::pair("unmatched", "unmatched, for instance")}) {
    bool titled = false;
    for (const Json& example : examples) {
      if (example["what"] != what) continue;
      if (!std::exchange(titled, true)) std::cout << "\n" << paint(client, "1", title) << "\n";
      print_example(client, example);
    }
  }
}

const CommandRegistration rerun_command(
    "rerun",
    "Puts stored events through their pipelines as they are now; each is stored anew in its own place",
    "dingle rerun \"dingle.pipeline = 'gate'\" --from 2026-11-20 --dry", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<StoredChoiceOptions>();
      o->add_to(app, "Only look what would become of them");
      return [=](Client& client) {
        return run_with_choice(client, *o, "/v1/rerun",
                               [&](const Json& job) { print_result(client, job, o->dry); });
      };
    });

}  // namespace
}  // namespace dingle

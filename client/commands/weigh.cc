// dingle weigh: what stored events are made of.
#include <fmt/format.h>

#include <cmath>
#include <iostream>

#include "client/query_options.h"
#include "client/table.h"
#include "client/times.h"
#include "core/time/formats.h"

namespace dingle {
namespace {

struct WeighOptions {
  QueryOptions query;
  std::size_t limit = 10'000, shapes = 8;
};

std::string size_text(double bytes) {
  static constexpr const char* kUnits[] = {"B", "KiB", "MiB", "GiB", "TiB"};
  std::size_t unit = 0;
  while (bytes >= 1024 && unit + 1 < std::size(kUnits)) bytes /= 1024, ++unit;
  return bytes < 10 && unit != 0 ? fmt::format("{:.1f} {}", bytes, kUnits[unit])
                                 : fmt::format("{:.0f} {}", bytes, kUnits[unit]);
}

std::string percent(double part, double all) {
  return all <= 0 ? "" : fmt::format("{:.1f} %", part / all * 100);
}

void print_weight(const Client& client, const Json& a) {
  const double bytes = a["bytes"].get<double>(), events = a["events"].get<double>(),
               day = a["bytes_a_day"].get<double>();
  std::cout << paint(client, "1", counted(a["events"].get<std::int64_t>(), "event")) << " of "
            << shown_second(client, a["from"]) << " to " << shown_second(client, a["to"]) << ", "
            << size_text(bytes / events) << " each; at this pace " << paint(client, "1", size_text(day))
            << " are stored a day\n\n";
  std::vector<Json> rows;
  for (const Json& f : a["fields"]) {
    std::string notes;
    const auto note = [&](const std::string& text) { notes += (notes.empty() ? "" : "; ") + text; };
    if (f.contains("same_as")) note("same as " + one_line(f["same_as"].get<std::string>()));
    if (f.value("in_body", false)) note("stands in the body");
    if (f["last_asked"].is_null() && f["field"] != "body" &&
        !f["field"].get<std::string>().starts_with("dingle."))
      note("never asked for");
    rows.push_back(
        {{"field", f["field"]},
         {"in", percent(f["events"].get<double>(), events)},
         {"each", std::llround(f["bytes"].get<double>() / std::max(1.0, f["events"].get<double>()))},
         {"share", percent(f["bytes"].get<double>(), bytes)},
         {"day", size_text(f["bytes_a_day"].get<double>())},
         {"notes", notes}});
    if (rows.size() == 25) break;
  }
  print_rows(client,
             {{"field", "FIELD"},
              {"in", "IN EVENTS"},
              {"each", "BYTES EACH", Column::Look::count},
              {"share", "SHARE"},
              {"day", "A DAY"},
              {"notes", ""}},
             rows);
  if (a["fields"].size() > rows.size())
    std::cout << paint(client, "2", fmt::format("and {} smaller fields\n", a["fields"].size() - rows.size()));
  std::cout << "\n";
  rows.clear();
  for (const Json& s : a["shapes"])
    rows.push_back({{"share", percent(s["bytes"].get<double>(), bytes)},
                    {"events", s["events"]},
                    {"day", size_text(s["bytes_a_day"].get<double>())},
                    {"shape", s["shape"]}});
  print_rows(client,
             {{"share", "SHARE"},
              {"events", "EVENTS", Column::Look::count},
              {"day", "A DAY"},
              {"shape", "SHAPE OF THE BODY"}},
             rows);
  std::cout << "\n";
  if (a["omit"].empty()) {
    std::cout << paint(client, "2", "nothing stands there twice that a step could take away") << "\n";
  } else {
    std::string names;
    for (const Json& name : a["omit"])
      names += (names.empty() ? "" : ", ") + one_line(name.get<std::string>());
    std::cout << "- omit: { fields: [" << names << "] }\n"
              << paint(client, "2",
                       "would save about " + size_text(a["saved_a_day"].get<double>()) + " of " +
                           size_text(day) + " a day, before compression evens it out")
              << "\n";
  }
  std::cout << paint(client, "2", "questions are remembered since " + shown_second(client, a["asked_since"]))
            << "\n";
}

int run_weigh(Client& client, const WeighOptions& o) {
  Parameters parameters = o.query.parameters(client);
  parameters.emplace("limit", std::to_string(o.limit));
  parameters.emplace("shapes", std::to_string(o.shapes));
  const Answer answer = call(client, "GET", "/v1/weigh", parameters);
  if (!answer.ok) return kFoundProblems;
  if (client.output != OutputForm::table) {
    const std::vector<Json> rows(answer.body["fields"].begin(), answer.body["fields"].end());
    print_rows(client,
               {{"field", ""},
                {"events", ""},
                {"bytes", ""},
                {"bytes_a_day", ""},
                {"last_asked", ""},
                {"same_as", ""},
                {"in_body", ""}},
               rows);
  } else if (answer.body["events"] == 0) {
    std::cout << "no events\n";
  } else {
    print_weight(client, answer.body);
  }
  return answer.body["complete"].get<bool>() ? kFine : kFoundProblems;
}

const CommandRegistration weigh_command(
    "weigh",
    "Weighs stored events: bytes by field and by shape, what is there twice, and what nobody asks for",
    "dingle weigh \"service.name = 'ticket-gate'\" --from 1h", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<WeighOptions>();
      o->query.add_to(app);
      app.option("--limit", o->limit, "How many of the newest events are weighed").with_default();
      app.option("--shapes", o->shapes, "How many shapes are shown").with_default();
      return [o](Client& client) { return run_weigh(client, *o); };
    });

}  // namespace
}  // namespace dingle

// dingle versions: what ran, and what was refused; and back to one of them.
#include <iostream>

#include "client/connection.h"
#include "client/difference.h"
#include "client/reloaded.h"
#include "client/table.h"
#include "client/times.h"

namespace dingle {
namespace {

struct VersionsOptions {
  std::vector<std::int64_t> numbers;
  std::string note;
  std::size_t limit = 50;
};

// Why a version was refused: its first error, or what stood in the way.
std::string refusal(const Json& version) {
  for (const Json& f : version["findings"])
    if (f["severity"] == "error")
      return dump(f["line"]) + ":" + dump(f["column"]) + ": " + f["message"].get<std::string>();
  return version["why"];
}

int list(const Client& client, const VersionsOptions& o) {
  const Answer a = call(client, "GET", "/v1/versions", {{"limit", std::to_string(o.limit)}});
  if (!a.ok) return kFoundProblems;
  std::vector<Json> rows;
  for (Json v : a.body["versions"]) {
    const std::string note = v["note"].get<std::string>();
    v["running"] = v["version"] == a.body["running"];
    v["told"] = v["outcome"] == "ran"
                    ? note
                    : refusal(v) + (v["times"] == 1 ? "" : " (" + dump(v["times"]) + " times)") +
                          (note.empty() ? "" : " (" + note + ")");
    if (client.output == OutputForm::table && v["running"] == true) v["outcome"] = "runs";
    rows.push_back(std::move(v));
  }
  using Look = Column::Look;
  if (client.output == OutputForm::table)
    print_rows(client,
               {{"version", "VERSION", Look::count},
                {"outcome", "OUTCOME"},
                {"at", "SINCE", Look::time},
                {"configuration", "TEXT"},
                {"who", "WHO"},
                {"told", "NOTE"}},
               rows);
  else
    print_rows(client,
               {{"version", "VERSION", Look::count},
                {"parent", "PARENT", Look::count},
                {"outcome", "OUTCOME"},
                {"running", "RUNNING"},
                {"at", "SINCE", Look::time},
                {"times", "TIMES", Look::count},
                {"configuration", "TEXT"},
                {"who", "WHO"},
                {"note", "NOTE"},
                {"file", "FILE"},
                {"why", "WHY"}},
               rows);
  if (client.output == OutputForm::table && a.body["removed"] != 0)
    std::cout << counted(a.body["removed"].get<std::int64_t>(), "older one was removed",
                         "older ones were removed")
              << ": 1000 that ran and 100 that were refused are kept\n";
  return kFine;
}

Json get(const Client& client, std::int64_t number) {
  const Answer a = call(client, "GET", "/v1/versions/" + std::to_string(number));
  return a.ok ? a.body : Json();
}

int show(const Client& client, const VersionsOptions& o) {
  const Json v = get(client, o.numbers[0]);
  if (v.is_null()) return kFoundProblems;
  if (client.output == OutputForm::table)
    std::cout << v["text"].get<std::string>();
  else
    std::cout << dump(v, client.output == OutputForm::json ? 2 : -1) << "\n";
  return kFine;
}

int difference(const Client& client, const VersionsOptions& o) {
  const Json later = get(client, o.numbers.back());
  if (later.is_null()) return kFoundProblems;
  const std::int64_t from = o.numbers.size() > 1 ? o.numbers[0] : later["parent"].get<std::int64_t>();
  const Json earlier = from == 0 ? Json{{"text", ""}, {"at", ""}} : get(client, from);
  if (earlier.is_null()) return kFoundProblems;
  if (client.output != OutputForm::table) {
    std::cout << dump({{"from", from},
                       {"to", later["version"]},
                       {"earlier", earlier["text"]},
                       {"later", later["text"]}},
                      client.output == OutputForm::json ? 2 : -1)
              << "\n";
    return kFine;
  }
  const auto label = [&client](std::int64_t number, const Json& v) {
    return "version " + std::to_string(number) + "  " + shown_second(client, v["at"]);
  };
  return print_difference(client, {label(from, earlier), earlier["text"]},
                          {label(later["version"].get<std::int64_t>(), later), later["text"]})
             ? kFine
             : kFoundProblems;
}

const CommandRegistration versions_command(
    "versions", "Shows which configurations ran and which were refused, and returns to one",
    "dingle versions difference 17", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<VersionsOptions>();
      app.option("--limit", o->limit, "At most so many, the newest").with_default();
      const Arguments one =
          app.command("show", "Prints the text of a version", "dingle versions show 17 > then.yaml");
      one.option("VERSION", o->numbers, "Its number").required().times(1, 1);
      const Arguments two = app.command("difference", "Shows what a version changed, or how two differ",
                                        "dingle versions difference 12 17");
      two.option("VERSION", o->numbers, "One: against what ran before it. Two: the later against the earlier")
          .required()
          .times(1, 2);
      const Arguments back =
          app.command("return", "Writes a former version into the configuration's file, and takes it",
                      "dingle versions return 16 --note 'the new template drops berths'");
      back.option("VERSION", o->numbers, "Its number").required().times(1, 1);
      back.option("--note", o->note, "What for");
      return [=](Client& client) {
        if (one.given()) return show(client, *o);
        if (two.given()) return difference(client, *o);
        if (back.given()) {
          Json body = said(o->note);
          body["version"] = o->numbers[0];
          return tell_reloaded(client, call(client, "POST", "/v1/return", {}, false, dump(body)));
        }
        return list(client, *o);
      };
    });

}  // namespace
}  // namespace dingle

// dingle letters: what destinations refused: list, count by reason, show, resend, discard.
#include <iostream>

#include "client/connection.h"
#include "client/events.h"
#include "client/job.h"
#include "client/table.h"

namespace dingle {
namespace {

struct LettersOptions {
  std::vector<std::int64_t> ids;
  std::string destination, reason;
  bool all = false, through_pipeline = false, reasons = false, no_wait = false;
  std::size_t limit = 50;
};

Parameters choice(const LettersOptions& o) {
  Parameters p;
  if (!o.destination.empty()) p.emplace("destination", o.destination);
  if (!o.reason.empty()) p.emplace("reason", o.reason);
  return p;
}

int list(const Client& client, const LettersOptions& o) {
  if (o.reasons ||
      (client.output == OutputForm::table && o.ids.empty() && o.destination.empty() && o.reason.empty())) {
    const Answer a = call(client, "GET", "/v1/letters/reasons", choice(o));
    if (!a.ok) return kFoundProblems;
    const Json& rows = a.body["reasons"];
    if (client.output == OutputForm::table && rows.empty()) {
      std::cout << paint(client, "1;32", "no letters are kept") << "\n";
      return kFine;
    }
    using Look = Column::Look;
    print_rows(client,
               {{"destination", "DESTINATION"},
                {"letters", "LETTERS", Look::count},
                {"first", "FIRST", Look::time},
                {"last", "LAST", Look::time},
                {"example", "EXAMPLE", Look::count},
                {"reason", "REASON"}},
               {rows.begin(), rows.end()});
    if (client.output == OutputForm::table)
      std::cout << "\nlook at one: dingle letters show ID    send them again: dingle letters resend --reason "
                   "TEXT\n";
    return rows.empty() ? kFine : kFoundProblems;
  }
  Parameters p = choice(o);
  p.emplace("limit", std::to_string(o.limit));
  const Answer a = call(client, "GET", "/v1/letters", p);
  if (!a.ok) return kFoundProblems;
  std::vector<Json> rows;
  for (Json row : a.body["letters"]) {
    if (client.output == OutputForm::table || client.output == OutputForm::csv)
      row["event"] = one_line(row["event"].value("body", ""));
    if (client.output == OutputForm::table)
      row["reason"] =
          cut_for(client, row["reason"].get<std::string>(), std::max<std::size_t>(30, client.width / 3));
    rows.push_back(std::move(row));
  }
  using Look = Column::Look;
  std::vector<Column> columns{{"id", "ID", Look::count},
                              {"destination", "DESTINATION"},
                              {"at", "SET ASIDE", Look::time},
                              {"attempts", "TRIES", Look::count},
                              {"reason", "REASON"},
                              {"source", "SOURCE"},
                              {"event", "LINE"}};
  if (client.output == OutputForm::table) columns.erase(columns.end() - 2);
  print_rows(client, columns, rows);
  return rows.empty() ? kFine : kFoundProblems;
}

int show(const Client& client, const LettersOptions& o) {
  Parameters p = choice(o);
  p.emplace("after", std::to_string(o.ids[0] - 1));
  p.emplace("limit", "1");
  const Answer a = call(client, "GET", "/v1/letters", p);
  if (!a.ok) return kFoundProblems;
  if (a.body["letters"].empty() || a.body["letters"][0]["id"] != o.ids[0]) {
    std::cerr << "dingle: there is no letter " << o.ids[0] << "\n";
    return kFoundProblems;
  }
  const Json& letter = a.body["letters"][0];
  if (client.output != OutputForm::table) {
    std::cout << dump(letter, client.output == OutputForm::json ? 2 : -1) << "\n";
    return kFine;
  }
  std::cout << paint(client, "1;31", letter["reason"].get<std::string>()) << "\n"
            << paint(client, "2",
                     "letter " + dump(letter["id"]) + " of " + letter["destination"].get<std::string>() +
                         ", set aside " + letter["at"].get<std::string>() + " after " +
                         dump(letter["attempts"]) + (letter["attempts"] == 1 ? " try" : " tries"))
            << "\n\n"
            << event_in_full(client, letter["event"]);
  return kFine;
}

// The letters that are meant, as a body; null with a message if none is said.
Json body_of(const LettersOptions& o) {
  Json body;
  if (!o.ids.empty()) body["ids"] = o.ids;
  if (!o.destination.empty()) body["destination"] = o.destination;
  if (!o.reason.empty()) body["reason"] = o.reason;
  if (o.all) body["all"] = true;
  if (body.is_null()) std::cerr << "dingle: which letters? Give ids, --destination, --reason or --all\n";
  return body;
}

int resend(const Client& client, const LettersOptions& o) {
  Json body = body_of(o);
  if (body.is_null()) return kUsage;
  if (o.through_pipeline) body["through_pipeline"] = true;
  const Answer a = call(client, "POST", "/v1/letters/resend", {}, true, dump(body));
  if (!a.ok) return kFoundProblems;
  return see_to_its_end(client, a.body, o.no_wait, [](const Json& job) {
    return "resent " + counted(job["result"].value("resent", std::int64_t{0}), "letter");
  });
}

int discard(const Client& client, const LettersOptions& o) {
  const Json body = body_of(o);
  if (body.is_null()) return kUsage;
  const Answer a = call(client, "POST", "/v1/letters/discard", {}, true, dump(body));
  if (!a.ok) return kFoundProblems;
  if (client.output == OutputForm::table)
    std::cout << "discarded " << counted(a.body["discarded"].get<std::int64_t>(), "letter") << "\n";
  else
    std::cout << dump(a.body) << "\n";
  return kFine;
}

const CommandRegistration letters_command(
    "letters", "Shows what destinations refused for good; sends it again or discards it",
    "dingle letters resend --reason 'value too long'", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<LettersOptions>();
      auto verb = std::make_shared<std::string>();
      auto choose = [o](const Arguments& to) {
        to.option("--destination", o->destination, "Only of this destination");
        to.option("--reason", o->reason, "Only those with this text in their reason");
      };
      choose(app);
      app.flag("--by-reason", o->reasons, "Count them by reason; without choice the default");
      app.option("--limit", o->limit, "At most so many").with_default();
      const Arguments one = app.command("show", "Shows one letter in full", "dingle letters show 17");
      one.option("ID", o->ids, "Its id").required().times(1, 1);
      const Arguments again = app.command("resend", "Sends letters again, once their cause is mended",
                                          "dingle letters resend --reason 'value too long'");
      again.option("ID", o->ids, "Their ids");
      choose(again);
      again.flag("--all", o->all, "All of them");
      again.flag("--through-pipeline", o->through_pipeline,
                 "Run their lines through the pipeline as it is now");
      again.flag("--no-wait", o->no_wait, "Start the job, and do not wait for its end");
      const Arguments away =
          app.command("discard", "Deletes letters",
                      "dingle letters discard --destination table --reason 'no such berth'");
      away.option("ID", o->ids, "Their ids");
      choose(away);
      away.flag("--all", o->all, "All of them");
      return [=](Client& client) {
        if (one.given()) return show(client, *o);
        if (again.given()) return resend(client, *o);
        if (away.given()) return discard(client, *o);
        return list(client, *o);
      };
    });

}  // namespace
}  // namespace dingle

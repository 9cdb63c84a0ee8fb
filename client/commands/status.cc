// dingle status: what is read, matched, dropped, queued and sent, and what is wrong.
#include <fmt/format.h>

#include <chrono>
#include <iostream>
#include <thread>

#include "client/connection.h"
#include "client/table.h"
#include "client/terminal.h"
#include "client/times.h"
#include "core/options/options.h"

namespace dingle {
namespace {

using Look = Column::Look;

std::vector<Json> rows_of(const Json& list) { return {list.begin(), list.end()}; }

// Adds a line with the sums of the counts.
std::vector<Json> with_total(std::vector<Json> rows, const std::vector<Column>& columns) {
  if (rows.size() < 2) return rows;
  Json total;
  for (const Column& c : columns) {
    if (c.key == "name") total[c.key] = "in all";
    if (c.look != Look::count && c.look != Look::bytes) continue;
    std::int64_t sum = 0;
    for (const Json& row : rows)
      if (row.contains(c.key) && row[c.key].is_number()) sum += row[c.key].get<std::int64_t>();
    total[c.key] = sum;
  }
  rows.push_back(std::move(total));
  return rows;
}

// Few pipelines have steps with memory.
void leave_out_memory(std::vector<Column>& columns, const std::vector<Json>& rows) {
  std::erase_if(columns, [&](const Column& c) {
    const auto none = [&](const char* key) {
      return std::all_of(rows.begin(), rows.end(), [&](const Json& r) { return r.value(key, 0) == 0; });
    };
    return ((c.key == "missed" || c.key == "gave_up" || c.key == "created") && none(c.key.c_str())) ||
           ((c.key == "merged" || c.key == "held") && none("merged"));
  });
}

void print_steps(const Client& client, const Json& status) {
  std::vector<Json> rows;
  for (const Json& p : status["pipelines"])
    for (std::size_t i = 0; i < p["steps"].size(); ++i) {
      Json row = p["steps"][i];
      const std::string name = row.value("name", "");
      row["name"] = p["name"];
      row["step"] = std::to_string(i + 1) + " " + row["step"].get<std::string>() +
                    (name.empty() ? "" : " " + name) + (row.value("off", false) ? " (off)" : "");
      std::string templates;
      if (row.contains("templates"))
        for (const Json& n : row["templates"])
          templates += (templates.empty() ? "" : ", ") + with_thousands(n["matched"].get<std::int64_t>());
      row["templates"] = templates;
      rows.push_back(std::move(row));
    }
  if (rows.empty()) return;
  std::cout << "\n";
  std::vector<Column> columns{{"name", "PIPELINE"},
                              {"step", "STEP"},
                              {"in", "IN", Look::count},
                              {"out", "OUT", Look::count},
                              {"failed", "FAILED", Look::count, true},
                              {"missed", "MISSED", Look::count},
                              {"gave_up", "GAVE UP", Look::count, true},
                              {"dropped", "DROPPED", Look::count},
                              {"merged", "FOLDED", Look::count},
                              {"created", "MADE", Look::count},
                              {"about_bytes_in", "ABOUT IN", Look::bytes},
                              {"about_bytes_out", "ABOUT OUT", Look::bytes},
                              {"nanoseconds_each", "NS EACH", Look::count},
                              {"templates", "MATCHED, BY TEMPLATE"}};
  leave_out_memory(columns, rows);
  print_rows(client, columns, rows);
}

// What is unusual is said only when there is some: the counter, and what it counts, of one and of several.
struct Note {
  const char *list, *what, *counter, *one, *more;
};
constexpr Note kNotes[] = {
    {"sources", "source", "cut", "line was longer than `longest_line` and was cut",
     "lines were longer than `longest_line` and were cut"},
    {"sources", "source", "invalid_utf8", "line is not valid UTF-8; wrong bytes are shown as �",
     "lines are not valid UTF-8; wrong bytes are shown as �"},
    {"sources", "source", "truncated", "time a file was truncated or replaced in place",
     "times a file was truncated or replaced in place"},
    {"sources", "source", "replaced", "file held other bytes than before and was read anew",
     "files held other bytes than before and were read anew"},
    {"sources", "source", "vanished",
     "file that had been read was gone at a start; what was written to it meanwhile is lost",
     "files that had been read were gone at a start; what was written to them meanwhile is lost"},
    {"sources", "source", "lost_queue_full", "message came by UDP while the queues were full, and is lost",
     "messages came by UDP while the queues were full, and are lost"},
    {"sources", "source", "lost_too_fast", "message came by UDP faster than it could be taken, and is lost",
     "messages came by UDP faster than they could be taken, and are lost"},
    {"sources", "source", "set_apart",
     "line could not go its way: it is in a file of the data folder, and nowhere else",
     "lines could not go their way: they are in a file of the data folder, and nowhere else"},
    {"sources", "source", "copies",
     "file was a copy of another that was then truncated; what was read is not read again",
     "files were copies of others that were then truncated; what was read is not read again"},
    {"sources", "source", "repeated",
     "request came again with a known Idempotency-Key; its events are stored once",
     "requests came again with a known Idempotency-Key; their events are stored once"},
    {"sources", "source", "refused", "request was refused; its answer said why",
     "requests were refused; their answers said why"},
    {"sources", "source", "turned_away", "request was answered 503, since the queues were full",
     "requests were answered 503, since the queues were full"},
    {"sources", "source", "closed_idle", "quiet connection was closed to make room for others",
     "quiet connections were closed to make room for others"},
    {"sources", "source", "left", "line was taken by no pipeline (dingle leftovers)",
     "lines were taken by no pipeline (dingle leftovers)"},
    {"pipelines", "pipeline", "fields_left_out",
     "field was left out: an event takes 1000, with names of 256 bytes at most",
     "fields were left out: an event takes 1000, with names of 256 bytes at most"},
    {"pipelines", "pipeline", "unrouted", "event went nowhere: none of the conditions in `to` held",
     "events went nowhere: none of the conditions in `to` held"},
    {"pipelines", "pipeline", "values_as_text",
     "value was kept as text: a number that no 64 bits hold, or a broken escape",
     "values were kept as text: numbers that no 64 bits hold, or broken escapes"},
    {"pipelines", "pipeline", "implausible_times",
     "event time is implausible; the event is in the index of the day on which it was read",
     "event times are implausible; such events are in the index of the day on which they were read"},
    {"pipelines", "pipeline", "early",
     "window or key was sent or forgotten before its time, since its step's memory was full",
     "windows or keys were sent or forgotten before their time, since their step's memory was full"},
    {"pipelines", "pipeline", "passed_around", "event from the past went around steps with memory",
     "events from the past went around steps with memory"},
    {"pipelines", "pipeline", "given_up",
     "event was held by a step that changed while the program was down; it is given up",
     "events were held by steps that changed while the program was down; they are given up"},
    {"destinations", "destination", "damaged", "event was destroyed on disk before it was delivered",
     "events were destroyed on disk before they were delivered"},
    {"destinations", "destination", "unknown",
     "event is done with, but the record of the spool that said what became of it was damaged",
     "events are done with, but the records of the spool that said what became of them were damaged"},
};

void print_notes(const Json& s) {
  for (const Note& note : kNotes)
    for (const Json& item : s[note.list])
      if (const std::int64_t n = item.value(note.counter, std::int64_t{0}); n != 0)
        std::cout << "note: " << note.what << " " << item["name"].get<std::string>() << ": "
                  << counted(n, note.one, note.more) << "\n";
  for (const Json& d : s["destinations"])
    if (d.value("removed_indexes", 0) != 0)
      std::cout << "note: destination " << d["name"].get<std::string>() << ": `keep` removed "
                << counted(d["removed_indexes"].get<std::int64_t>(), "index", "indexes") << " with "
                << counted(d["removed_events"].get<std::int64_t>(), "event") << "\n";
}

// What is not as it should be, in the first line, and the problems: before anything else.
void print_verdict(const Client& client, const Json& s) {
  std::vector<std::string> wrong, odd;
  const auto sum = [&](const char* list, const char* key) {
    std::int64_t n = 0;
    for (const Json& item : s[list]) n += item.value(key, std::int64_t{0});
    return n;
  };
  const auto tell = [](std::vector<std::string>& to, std::int64_t n, const char* one, const char* more) {
    if (n != 0) to.push_back(counted(n, one, more));
  };
  const bool balanced = s["balanced"].get<bool>();
  if (!balanced) wrong.push_back("events are not accounted for");
  tell(wrong, static_cast<std::int64_t>(s["problems"].size()), "problem", "problems");
  std::int64_t failing = 0;
  for (const Json& d : s["destinations"]) failing += d["failing"].get<bool>();
  tell(wrong, failing, "destination does not accept", "destinations do not accept");
  tell(wrong, sum("destinations", "letters"), "dead letter", "dead letters");
  tell(wrong, sum("destinations", "shed"), "event was shed", "events were shed");
  tell(wrong, sum("destinations", "damaged"), "event was destroyed on disk", "events were destroyed on disk");
  tell(wrong, sum("sources", "set_apart"), "line is set apart", "lines are set apart");
  tell(odd, sum("pipelines", "unmatched"), "event unmatched", "events unmatched");
  tell(odd, sum("sources", "left"), "line left over", "lines left over");
  tell(odd, sum("pipelines", "unrouted"), "event went nowhere", "events went nowhere");
  const std::string rest = fmt::format("{}", fmt::join(odd, ", "));
  if (!wrong.empty())
    std::cout << paint(client, "1;31", fmt::format("{}", fmt::join(wrong, ", ")))
              << (rest.empty() ? "" : "; " + rest) << (balanced ? "; every line is accounted for" : "")
              << "\n";
  else if (!odd.empty())
    std::cout << paint(client, "1;33", "it works: ") << rest
              << "; every line is accounted for at every stage\n";
  else
    std::cout << paint(client, "1;32", "all well: ") << "every line is accounted for at every stage\n";
  if (!balanced)
    for (const Json& b : s["balance"])
      if (b["in"] != b["accounted_for"])
        std::cout << paint(client, "1;31", "not balanced: ") << b["stage"].get<std::string>() << ": in "
                  << b["in"] << ", accounted for " << b["accounted_for"] << "\n";
  for (const Json& p : s["problems"])
    std::cout << paint(client, "1;31", "problem: ") << p["about"].get<std::string>() << ": "
              << p["text"].get<std::string>() << " (since " << shown_second(client, p["since"]) << ")\n";
  for (const Json& source : s["sources"])
    if (source.contains("waits_for"))
      std::cout << paint(client, "1;33", "paused: ") << "source " << source["name"].get<std::string>()
                << " waits for room in the queue of " << source["waits_for"].get<std::string>() << "\n";
  std::cout << "\n";
}

int print_people(const Client& client, const Json& s, bool steps) {
  print_verdict(client, s);
  const std::vector<Column> sources{{"name", "SOURCE"},
                                    {"kind", "KIND"},
                                    {"open", "OPEN", Look::count},
                                    {"lines", "LINES", Look::count},
                                    {"empty", "EMPTY", Look::count},
                                    {"joined", "JOINED", Look::count},
                                    {"events", "EVENTS", Look::count},
                                    {"leftovers", "LEFTOVERS", Look::count, true},
                                    {"bytes_behind", "BEHIND", Look::bytes}};
  print_rows(client, sources, with_total(rows_of(s["sources"]), sources));
  for (const Json& source : s["sources"])
    if (source.contains("listening"))
      std::cout << source["name"].get<std::string>() << " listens on "
                << fmt::format("{}", fmt::join(source["listening"].get<std::vector<std::string>>(), " and "))
                << "\n";
  std::cout << "\n";
  std::vector<Column> pipelines{{"name", "PIPELINE"},
                                {"in", "IN", Look::count},
                                {"matched", "MATCHED", Look::count},
                                {"unmatched", "UNMATCHED", Look::count, true},
                                {"dropped", "DROPPED", Look::count},
                                {"merged", "FOLDED", Look::count},
                                {"held", "HELD", Look::count},
                                {"created", "MADE", Look::count},
                                {"out", "OUT", Look::count},
                                {"bytes_in", "BYTES IN", Look::bytes},
                                {"bytes_out", "BYTES OUT", Look::bytes}};
  leave_out_memory(pipelines, rows_of(s["pipelines"]));
  print_rows(client, pipelines, with_total(rows_of(s["pipelines"]), pipelines));
  if (steps) print_steps(client, s);
  std::cout << "\n";
  const std::vector<Column> destinations{{"name", "DESTINATION"},
                                         {"kind", "KIND"},
                                         {"in", "IN", Look::count},
                                         {"sent", "SENT", Look::count},
                                         {"bytes_out", "BYTES SENT", Look::bytes},
                                         {"waiting", "WAITING", Look::count},
                                         {"waiting_bytes", "QUEUED", Look::bytes},
                                         {"in_per_second", "IN/S", Look::count},
                                         {"out_per_second", "OUT/S", Look::count},
                                         {"set_aside", "SET ASIDE", Look::count, true},
                                         {"shed", "SHED", Look::count, true},
                                         {"retried", "RETRIED", Look::count, true},
                                         {"p99", "P99", Look::seconds}};
  std::vector<Json> rows = rows_of(s["destinations"]);
  for (Json& row : rows) {
    row["p99"] = row["last_accepted"].is_null() ? Json() : row["latency_seconds"]["p99"];
    for (const char* rate : {"in_per_second", "out_per_second"})
      row[rate] = static_cast<std::int64_t>(row[rate].get<double>());
  }
  print_rows(client, destinations, rows);
  std::cout << "\n";
  print_notes(s);
  for (const Json& p : s["pipelines"])
    for (const Json& step : p["steps"])
      for (const Json& t : step.value("templates", Json::array()))
        if (t["too_expensive"] != 0)
          std::cout << "note: pipeline " << p["name"].get<std::string>() << ": a template gave up on "
                    << counted(t["too_expensive"].get<std::int64_t>(), "line, which is", "lines, which are")
                    << " too expensive for it: " << t["template"].get<std::string>() << "\n";
  for (const Json& d : s["destinations"]) {
    const std::string about = "note: destination " + d["name"].get<std::string>() + ": ";
    auto count = [&](const char* key) { return with_thousands(d[key].get<std::int64_t>()); };
    if (d["failing"].get<bool>())
      std::cout << about << "accepts nothing since " << shown_second(client, d["since"])
                << (d["circuit"] == "open"
                        ? "; circuit open, next try " + shown_second(client, d["next_try"]).substr(11) + "\n"
                        : "; circuit half open: it is tried now\n");
    if (!d["events_at_once"].is_null())
      std::cout << about << "is too slow for more than " << count("events_at_once")
                << " events at once; when it is not any more, it gets more\n";
    if (d["waiting"] != 0 && d["oldest_waiting_seconds"].get<double>() >= 5)
      std::cout << about << counted(d["waiting"].get<std::int64_t>(), "event waits", "events wait")
                << ", the oldest for " << static_cast<std::int64_t>(d["oldest_waiting_seconds"].get<double>())
                << " s; "
                << (d["drained_in_seconds"].is_null()
                        ? std::string("at this rate the queue does not shrink")
                        : "drained in " +
                              with_thousands(
                                  static_cast<std::int64_t>(d["drained_in_seconds"].get<double>()) + 1) +
                              " s at this rate")
                << "\n";
    if (d["letters"] != 0)
      std::cout << about << counted(d["letters"].get<std::int64_t>(), "dead letter is", "dead letters are")
                << " kept (dingle letters)\n";
    for (const Json& r : d["letters_by_reason"])
      std::cout << "      " << with_thousands(r["letters"].get<std::int64_t>()) << ": "
                << r["reason"].get<std::string>() << "\n";
    if (d["replaced"] != 0)
      std::cout << about << counted(d["replaced"].get<std::int64_t>(), "text")
                << " held what it cannot store (U+0000); it is replaced by U+FFFD\n";
  }
  std::cout << "configuration " << s["configuration"].get<std::string>() << ", started "
            << shown_second(client, s["started"]) << ", spool "
            << format_size(s["spool"]["bytes"].get<std::uint64_t>()) << " in " << s["spool"]["segments"]
            << (s["spool"]["segments"] == 1 ? " segment" : " segments") << "\n";
  return s["problems"].empty() && s["balanced"].get<bool>() ? kFine : kFoundProblems;
}

const CommandRegistration status_command(
    "status", "Shows what is read, matched, dropped, queued and sent, and what is wrong",
    "dingle status --steps", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto steps = std::make_shared<bool>(false);
      auto watch = std::make_shared<bool>(false);
      app.flag("--steps", *steps, "Also the counts of every step and template");
      app.flag("--watch", *watch, "Again every two seconds, until Ctrl-C");
      return [steps, watch](Client& client) {
        Answer a = call(client, "GET", "/v1/status");
        while (a.ok && *watch && client.output == OutputForm::table) {
          if (client.color) clear_terminal();
          print_people(client, a.body, *steps);
          std::cout << std::flush;
          std::this_thread::sleep_for(std::chrono::seconds(2));
          a = call(client, "GET", "/v1/status");
        }
        if (!a.ok) return kFoundProblems;
        if (client.output == OutputForm::table) return print_people(client, a.body, *steps);
        if (client.output == OutputForm::csv) {
          std::vector<Json> rows;
          for (const char* part : {"sources", "pipelines", "destinations"})
            for (const Json& item : a.body[part])
              for (const auto& [key, value] : item.items())
                if (value.is_number())
                  rows.push_back({{"part", part}, {"name", item["name"]}, {"count", key}, {"value", value}});
          print_rows(client, {{"part", ""}, {"name", ""}, {"count", ""}, {"value", ""}}, rows);
        } else {
          std::cout << dump(a.body, client.output == OutputForm::json ? 2 : -1) << "\n";
        }
        return a.body["problems"].empty() && a.body["balanced"].get<bool>() ? kFine : kFoundProblems;
      };
    });

}  // namespace
}  // namespace dingle

// The calls about dead letters.
#include "agent/engine/concealed.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/jobs/jobs.h"
#include "server/json_answer.h"
#include "server/log.h"
#include "spool/events.h"

namespace dingle {
namespace {

std::uint32_t destination_id(Engine& engine, const std::string& name) {
  if (name.empty()) return 0;
  std::vector<std::string> names;
  for (const auto& d : engine.destinations()) {
    if (d.name == name) return d.id;
    names.push_back(d.name);
  }
  throw Refused{
      api_error(404, "there is no destination `" + name + "`", did_you_mean(name, names), "destination")};
}

std::string destination_name(Engine& engine, std::uint32_t id) {
  for (const auto& d : engine.destinations())
    if (d.id == id) return d.name;
  return "(gone)";
}

// Of `destination` and `reason`.
LetterChoice choice_of(Engine& engine, const Asked& asked) {
  return {{},
          asked.given("destination") ? destination_id(engine, asked.text("destination")) : 0,
          asked.text("reason")};
}

// Of `ids` and `all` too: some must be meant.
LetterChoice choice_to_act(Engine& engine, const Asked& asked) {
  LetterChoice c = choice_of(engine, asked);
  c.ids = asked.options.numbers("ids");
  if (c.ids.empty() && c.destination == 0 && c.reason.empty() && !asked.flag("all"))
    throw Refused{api_error(400, "which letters?", "give `ids`, `destination`, `reason`, or `all`: true")};
  return c;
}

// Shows what is sealed, where it can be opened.
void open(Letter& letter, const std::string& key) {
  const auto record = opened_record(letter, key);
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  if (!record || !decoder.decode(*record, letter.destination, events) || events.size() != 1) return;
  letter.event.clear();
  append_event_json(events[0], letter.event);
}

HttpAnswer list_letters(Api& api, const Asked& asked) {
  AnswerList list;
  LetterChoice choice = choice_of(api.engine(), asked);
  choice.after = asked.options.number("after");
  const bool opens = api.may(asked.request, Scope::lines);
  const std::string key = api.engine().configuration()->server.section("held").text("key");
  for (Letter& l : api.engine().letters().list(choice, asked.number("limit"), opens)) {
    if (opens && is_sealed(l)) open(l, key);
    if (!list.room(200 + l.reason.size() + l.source.size() + l.event.size())) break;
    list.add({{"id", l.id},
              {"destination", destination_name(api.engine(), l.destination)},
              {"at", format_rfc3339(l.at)},
              {"attempts", l.attempts},
              {"reason", l.reason},
              {"source", l.source},
              {"event", parse_json(l.event)}});
  }
  return json_answer(list.with_cut({{"letters", list.take()}}));
}

HttpAnswer count_letters(Api& api, const Asked& asked) {
  Json list = Json::array();
  std::uint64_t all = 0;
  for (const Letters::Sum& s : api.engine().letters().by_reason(choice_of(api.engine(), asked))) {
    list.push_back({{"destination", destination_name(api.engine(), s.destination)},
                    {"reason", s.reason},
                    {"letters", s.letters},
                    {"first", format_rfc3339(s.first)},
                    {"last", format_rfc3339(s.last)},
                    {"example", s.example}});
    all += s.letters;
  }
  return json_answer({{"reasons", list}, {"letters", all}, {"bytes", api.engine().letters().bytes()}});
}

// In words, for the list of jobs.
std::string words_of(const LetterChoice& choice, const Asked& asked) {
  std::string words = choice.ids.empty() ? "" : std::to_string(choice.ids.size()) + " by id";
  const auto add = [&](const std::string& more) { words += (words.empty() ? "" : ", ") + more; };
  if (choice.destination) add("of " + asked.text("destination"));
  if (!choice.reason.empty()) add("with `" + choice.reason + "` in their reason");
  if (words.empty()) add("all");
  if (asked.flag("through_pipeline")) add("through the pipeline");
  return words;
}

constexpr const char* kResend = "resend letters";

HttpAnswer resend_letters(Api& api, const Asked& asked) {
  const LetterChoice choice = choice_to_act(api.engine(), asked);
  const Letters::Extent extent = api.engine().letters().extent(choice);
  std::string problem;
  const std::int64_t id =
      api.jobs().add(kResend, words_of(choice, asked), asked.request.who,
                     {{"ids", choice.ids},
                      {"destination", choice.destination},
                      {"reason", choice.reason},
                      {"until", extent.last},  // those that come back meanwhile wait for the next time
                      {"through_pipeline", asked.flag("through_pipeline")}},
                     problem);
  return started_job(api, id, problem);
}

// A position: { "after": the last id that is done }.
bool resend(JobWork& work, std::string& problem) {
  LetterChoice choice{work.request["ids"].get<std::vector<std::int64_t>>(), work.request["destination"],
                      work.request["reason"], 0, work.request["until"]};
  if (choice.until == 0) return true;  // there were none
  const bool before = work.position.is_object();
  if (before) {
    choice.after = work.position["after"];
    // What the run before did last, and did not come to note.
    for (const std::int64_t id : work.engine.resent_at_start())
      if (id > choice.after && id <= choice.until) ++work.done;
  }
  const std::uint64_t done = work.done;
  work.total = done + work.engine.letters().extent(choice).letters;
  const auto note = [&](std::uint64_t letters, std::int64_t last) {
    work.done = done + letters;
    work.position = {{"after", last}};
    work.result = {{"resent", work.done}};
    work.reached();
  };
  note(0, choice.after);
  const Engine::Resent resent = work.engine.resend(choice, work.request["through_pipeline"],
                                                   {.ends = [&] { return work.ends(); }, .reached = note});
  work.done = done + resent.letters;
  work.result = {{"resent", work.done}};
  problem = resent.problem;
  return resent.complete;
}
const JobKindRegistration kResendJob({kResend, "letters", resend});

HttpAnswer discard_letters(Api& api, const Asked& asked) {
  const std::uint64_t gone = api.engine().letters().remove(choice_to_act(api.engine(), asked));
  log_info("letters discarded", {{"letters", std::to_string(gone)}, {"by", asked.request.who}});
  return json_answer({{"discarded", gone}});
}

const std::vector<OptionSpec> kWhichLetters{
    {.name = "ids", .type = OptionType::integers, .text = "Their ids; or"},
    {.name = "destination", .text = "those of this destination; or"},
    {.name = "reason", .text = "those with this text in their reason; or"},
    {.name = "all", .type = OptionType::boolean, .text = "all."}};

std::vector<OptionSpec> which_letters(std::vector<OptionSpec> more) {
  more.insert(more.begin(), kWhichLetters.begin(), kWhichLetters.end());
  return more;
}

const CallRegistration kListLetters(
    {.method = "GET",
     .path = "/v1/letters",
     .name = "listLetters",
     .text = "Dead letters: events that a destination refused, the oldest first.",
     .parameters = {{.name = "destination", .text = "Only of this destination."},
                    {.name = "reason", .text = "Only those with this text in their reason."},
                    {.name = "after", .type = OptionType::integer, .text = "Only those with a larger id."},
                    {.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "50",
                     .text = "At most so many; those behind them by `after`.",
                     .most = 10'000}},
     .run = list_letters,
     .example = R"({"letters":[{"id":17,"destination":"table","at":"2026-11-23T10:00:00Z","attempts":1,
       "reason":"no such berth","source":"berthing","event":{"timestamp":"2026-11-23T09:59:58Z","berth":"NQ-9"}}]})",
     .answer =
         [] {
           return object_of({{"letters", list_of(object_of({{"id", is_integer()},
                                                            {"destination", is_text()},
                                                            {"at", is_moment()},
                                                            {"attempts", is_integer()},
                                                            {"reason", is_text()},
                                                            {"source", is_text()},
                                                            {"event", map_of(is_anything())}}))},
                             cut_at_bytes()});
         },
     .is_long = true});
const CallRegistration kCountLetters(
    {.method = "GET",
     .path = "/v1/letters/reasons",
     .name = "countLetters",
     .text = "Dead letters counted by destination and reason, the most frequent first.",
     .parameters = {{.name = "destination", .text = "Only of this destination."},
                    {.name = "reason", .text = "Only those with this text in their reason."}},
     .run = count_letters,
     .example =
         R"({"reasons":[{"destination":"table","reason":"no such berth","letters":3,"first":"2026-11-23T10:00:00Z",
       "last":"2026-11-23T10:05:00Z","example":17}],"letters":3,"bytes":12288})",
     .answer =
         [] {
           return object_of({{"reasons", list_of(object_of({{"destination", is_text()},
                                                            {"reason", is_text()},
                                                            {"letters", is_integer()},
                                                            {"first", is_moment()},
                                                            {"last", is_moment()},
                                                            {"example", is_integer()}}))},
                             {"letters", is_integer()},
                             {"bytes", is_integer()}});
         },
     .is_long = true});
const CallRegistration kResendLetters(
    {.method = "POST",
     .path = "/v1/letters/resend",
     .name = "resendLetters",
     .text = "Sends dead letters again, once the cause is mended: a job. A letter that is refused again "
             "comes back.",
     .body = which_letters({{.name = "through_pipeline",
                             .type = OptionType::boolean,
                             .text = "Run their lines through the pipeline again, as it is now."}}),
     .run = resend_letters,
     .example = R"({"id":7,"kind":"resend letters","what":"of table","by":"owner","state":"waiting",
       "asked":"2026-11-23T10:00:00Z","began":null,"ended":null,"done":0,"total":0,"unit":"letters","rate":null,
       "seconds_left":null,"result":{}})",
     .answer = job_schema,
     .status = 202,
     .is_long = true,
     .scope = Scope::operate});
const CallRegistration kDiscardLetters({.method = "POST",
                                        .path = "/v1/letters/discard",
                                        .name = "discardLetters",
                                        .text = "Deletes dead letters.",
                                        .body = kWhichLetters,
                                        .run = discard_letters,
                                        .example = R"({"discarded":3})",
                                        .answer =
                                            [] {
                                              return object_of({{"discarded", is_integer()}});
                                            },
                                        .is_long = true,
                                        .scope = Scope::operate});

}  // namespace
}  // namespace dingle

// The calls about dead letters.
#include "core/nearest.h"
#include "server/calls/call.h"
#include "server/json_answer.h"
#include "server/log.h"
#include "server/parameters.h"

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

LetterChoice choice_of(Engine& engine, const HttpRequest& r) {
  const Parameters p(r);
  return {{},
          destination_id(engine, p.text("destination")),
          p.text("reason"),
          static_cast<std::int64_t>(p.number("after", 0, INT64_MAX))};
}

LetterChoice choice_of(Engine& engine, const Json& body) {
  LetterChoice c;
  auto text = [&](const char* name) {
    if (!body.contains(name)) return std::string();
    if (!body[name].is_string())
      throw Refused{api_error(400, std::string("`") + name + "` must be a text", "", name)};
    return body[name].get<std::string>();
  };
  c.destination = destination_id(engine, text("destination"));
  c.reason = text("reason");
  for (const Json& id : body.value("ids", Json::array())) {
    if (!id.is_number_integer())
      throw Refused{api_error(400, "`ids` must be a list of whole numbers", "", "ids")};
    c.ids.push_back(id.get<std::int64_t>());
  }
  if (c.ids.empty() && c.destination == 0 && c.reason.empty() && body.value("all", Json()) != true)
    throw Refused{api_error(400, "which letters?", "give `ids`, `destination`, `reason`, or `all`: true")};
  return c;
}

HttpAnswer list_letters(Api& api, const HttpRequest& r) {
  Json list = Json::array();
  for (const Letter& l :
       api.engine().letters().list(choice_of(api.engine(), r), Parameters(r).number("limit", 50, 10'000)))
    list.push_back({{"id", l.id},
                    {"destination", destination_name(api.engine(), l.destination)},
                    {"at", format_rfc3339(l.at)},
                    {"attempts", l.attempts},
                    {"reason", l.reason},
                    {"source", l.source},
                    {"event", parse_json(l.event)}});
  return json_answer({{"letters", list}});
}

HttpAnswer count_letters(Api& api, const HttpRequest& r) {
  Json list = Json::array();
  std::uint64_t all = 0;
  for (const Letters::Sum& s : api.engine().letters().by_reason(choice_of(api.engine(), r))) {
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

HttpAnswer resend_letters(Api& api, const HttpRequest& r) {
  const Json body = body_of(r);
  const Engine::Resent resent =
      api.engine().resend(choice_of(api.engine(), body), body.value("through_pipeline", Json()) == true);
  if (!resent.problem.empty())
    return api_error(409, resent.problem, std::to_string(resent.letters) + " were resent");
  return json_answer({{"resent", resent.letters}});
}

HttpAnswer discard_letters(Api& api, const HttpRequest& r) {
  const std::uint64_t gone = api.engine().letters().remove(choice_of(api.engine(), body_of(r)));
  log_info("letters discarded", {{"letters", std::to_string(gone)}, {"by", r.who}});
  return json_answer({{"discarded", gone}});
}

const std::vector<ParameterSpec> kWhichLetters{
    {"ids", "integers", "Their ids; or"},
    {"destination", "string", "those of this destination; or"},
    {"reason", "string", "those with this text in their reason; or"},
    {"all", "boolean", "all."}};

std::vector<ParameterSpec> which_letters(std::vector<ParameterSpec> more) {
  more.insert(more.begin(), kWhichLetters.begin(), kWhichLetters.end());
  return more;
}

const CallRegistration kListLetters(
    {.method = "GET",
     .path = "/v1/letters",
     .text = "Dead letters: events that a destination refused, the oldest first.",
     .parameters = {{"destination", "string", "Only of this destination."},
                    {"reason", "string", "Only those with this text in their reason."},
                    {"after", "integer", "Only those with a larger id."},
                    {"limit", "integer", "At most so many; 50, if missing."}},
     .run = list_letters,
     .answer =
         [] {
           return object_of({{"letters", list_of(object_of({{"id", is_integer()},
                                                            {"destination", is_text()},
                                                            {"at", is_moment()},
                                                            {"attempts", is_integer()},
                                                            {"reason", is_text()},
                                                            {"source", is_text()},
                                                            {"event", map_of(is_anything())}}))}});
         },
     .is_long = true});
const CallRegistration kCountLetters(
    {.method = "GET",
     .path = "/v1/letters/reasons",
     .text = "Dead letters counted by destination and reason, the most frequent first.",
     .parameters = {{"destination", "string", "Only of this destination."},
                    {"reason", "string", "Only those with this text in their reason."}},
     .run = count_letters,
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
     .text = "Sends dead letters again, once the cause is mended. A letter that is refused again comes back.",
     .body = which_letters({{"through_pipeline", "boolean",
                             "Run their lines through the pipeline again, as it is now."}}),
     .run = resend_letters,
     .answer =
         [] {
           return object_of({{"resent", is_integer()}});
         },
     .is_long = true,
     .scope = Scope::operate});
const CallRegistration kDiscardLetters({.method = "POST",
                                        .path = "/v1/letters/discard",
                                        .text = "Deletes dead letters.",
                                        .body = kWhichLetters,
                                        .run = discard_letters,
                                        .answer =
                                            [] {
                                              return object_of({{"discarded", is_integer()}});
                                            },
                                        .is_long = true,
                                        .scope = Scope::operate});

}  // namespace
}  // namespace dingle

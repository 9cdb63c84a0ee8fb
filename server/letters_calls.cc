// The calls about dead letters.
#include "core/nearest.h"
#include "server/calls.h"
#include "server/json_answer.h"
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

}  // namespace

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
  return json_answer({{"discarded", api.engine().letters().remove(choice_of(api.engine(), body_of(r)))}});
}

}  // namespace dingle

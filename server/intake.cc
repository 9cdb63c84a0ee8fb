#include "server/intake.h"

#include "server/json_answer.h"
#include "server/parameters.h"
#include "store/intake_lines.h"

namespace dingle {

namespace {

std::uint64_t number(const Parameters& p, const char* name) {
  if (p.text(name).empty()) throw Refused{api_error(400, std::string("`") + name + "` is missing", "", name)};
  return p.number(name, 0, UINT64_MAX);
}

}  // namespace

ApiAnswer take_in(Api& api, const ApiRequest& r) {
  const Parameters p(r);
  const Sender sender{number(p, "spool"), number(p, "epoch"), number(p, "nonce"),
                      static_cast<std::uint32_t>(number(p, "sender"))};
  const std::string destination = p.text("destination");
  const auto stores = api.engine().stores(destination);
  if (stores.empty())
    return api_error(404, destination.empty()
                              ? "there is no destination of the kind `index` here"
                              : "there is no destination `" + destination + "` of the kind `index` here");
  if (stores.size() > 1)
    return api_error(400, "there are several destinations of the kind `index` here", "say which: into: NAME");
  const auto held_here = [&] {
    const RecordNumber held = stores[0]->held(sender);
    return Json{{"epoch", held.epoch}, {"number", held.number}};
  };
  const RecordNumber after{p.number("after_epoch", 0, UINT64_MAX), p.number("after_number", 0, UINT64_MAX)};
  if (stores[0]->held(sender) < after)
    return api_error(409, "this store holds less than the agent has sent to it: it was restored");
  IntakeLines lines;
  std::size_t line = 0;
  for (std::size_t at = 0; at < r.body.size(); ++line) {
    const std::size_t end = std::min(r.body.find('\n', at), r.body.size());
    if (end != at && !lines.add(std::string_view(r.body).substr(at, end - at), sender))
      return api_error(400, "line " + std::to_string(line + 1) + " is not an event as agents send them");
    at = end + 1;
  }
  std::uint64_t stored = 0, known = 0;
  for (const auto& [index, events] : lines.by_index()) {
    const Store::Outcome o = stores[0]->commit(index, sender, events);
    if (o.form != Store::Outcome::Form::committed) return api_error(503, o.reason);
    stored += o.stored;
    known += o.known;
  }
  return json_answer({{"stored", stored}, {"known", known}, {"held", held_here()}});
}

}  // namespace dingle

// What agents elsewhere send to the store here.
#include "server/handover.h"

#include <algorithm>
#include <mutex>

#include "server/calls/call.h"
#include "server/json_answer.h"
#include "store/handover_lines.h"

namespace dingle {

namespace {

// A spool is the agent's whose token it came with first, for as long as that agent is known here: nobody else's events are
// taken for its own. What is in the way, or nullopt.
std::optional<HttpAnswer> not_its_own(Engine& engine, std::uint64_t spool, const std::string& agent) {
  constexpr std::size_t kMostSpools = 10'000;
  static std::mutex one_at_a_time;
  std::lock_guard lock(one_at_a_time);
  const std::string prefix = "agent/", key = prefix + std::to_string(spool);
  const std::string owner = engine.spool().state(key).value_or("");
  if (owner == agent) return std::nullopt;
  const auto agents = engine.configuration()->server.named_secrets("agents");
  const bool known =
      std::any_of(agents.begin(), agents.end(), [&](const auto& a) { return a.first == owner; });
  if (!owner.empty() && known)
    return api_error(
        403, "this spool belongs to the agent `" + owner + "`",
        "one agent's spool is not another's; a copy of its data folder was given to `" + agent + "`?");
  if (owner.empty() && engine.spool().state_with_prefix(prefix).size() >= kMostSpools)
    return api_error(
        403, "agents have brought " + std::to_string(kMostSpools) + " spools here, which is the most", "");
  if (engine.spool().note({{{key, agent, false}}, {}}) != 0)
    return api_error(503, "the spool here cannot be written");
  return std::nullopt;
}

HttpAnswer take_in(Api& api, const Asked& asked) {
  const HttpRequest& r = asked.request;
  const Sender sender{asked.number("spool"), asked.number("epoch"), asked.number("nonce"),
                      static_cast<std::uint32_t>(asked.number("sender"))};
  const std::string& destination = asked.text("destination");
  const auto stores = api.engine().stores(destination);
  if (stores.empty())
    return api_error(404, destination.empty()
                              ? "there is no destination of the kind `index` here"
                              : "there is no destination `" + destination + "` of the kind `index` here");
  if (stores.size() > 1)
    return api_error(400, "there are several destinations of the kind `index` here", "say which: into: NAME");
  if (r.who.starts_with(kAgent))
    if (auto refused = not_its_own(api.engine(), sender.spool, r.who.substr(kAgent.size())))
      return std::move(*refused);
  auto held = stores[0]->held(sender);
  if (!held) return api_error(503, held.problem().message);
  const RecordNumber after{asked.number("after_epoch"), asked.number("after_number")};
  if (held->newest < after)
    return api_error(409, "this store holds less than the agent has sent to it: it was restored");
  HandoverLines lines;
  std::size_t line = 0;
  for (std::size_t at = 0; at < r.body.size(); ++line) {
    const std::size_t end = std::min(r.body.find('\n', at), r.body.size());
    if (end != at && !lines.add(std::string_view(r.body).substr(at, end - at), sender))
      return api_error(422, "line " + std::to_string(line + 1) + " is not an event as agents send them");
    at = end + 1;
  }
  std::uint64_t stored = 0, known = 0;
  for (const auto& [index, events] : lines.by_index()) {
    const Store::Outcome o = stores[0]->commit(index, sender, events);
    if (o.form != Store::Outcome::Form::committed) return api_error(503, o.reason);
    stored += o.stored;
    known += o.known;
  }
  held = stores[0]->held(sender);
  if (!held) return api_error(503, held.problem().message);
  return json_answer(
      {{"stored", stored},
       {"known", known},
       {"held", {{"epoch", held->newest.epoch}, {"number", held->newest.number}, {"events", held->stored}}}});
}

OptionSpec number64(const char* name, const char* text, bool required = true) {
  return {.name = name, .type = OptionType::number64, .text = text, .required = required};
}

const CallRegistration kHandover(
    {.method = "POST",
     .path = kHandoverPath,
     .name = "handOver",
     .text = "Stores events of an agent elsewhere, each once: NDJSON, one event a line (docs/handover.md).",
     .parameters = {number64("spool", "The sender's spool."),
                    number64("epoch", "Its epoch."),
                    number64("nonce", "Its nonce."),
                    {.name = "sender",
                     .type = OptionType::integer,
                     .text = "The destination's id there.",
                     .required = true,
                     .most = UINT32_MAX},
                    number64("after_epoch", "The newest record of which the store has accepted something;",
                             false),
                    number64("after_number", "if it holds less, it was restored, and refuses with 409.",
                             false),
                    {.name = "destination", .text = "The destination here; its only `index`, if missing."}},
     .run = take_in,
     .example = R"({"stored":500,"known":0,"held":{"epoch":1,"number":12,"events":4100}})",
     .answer =
         [] {
           return object_of(
               {{"stored", is_integer()},
                {"known", is_integer()},
                {"held",
                 object_of({{"epoch", is_integer()}, {"number", is_integer()}, {"events", is_integer()}})}});
         },
     .is_long = true,
     .scope = Scope::write});

}  // namespace
}  // namespace dingle

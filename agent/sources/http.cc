// http: lines or JSON documents that clients post. A request is answered once its events are on disk in the
// spool; with an Idempotency-Key it can be sent again without storing them twice.
#include <fmt/format.h>
#include <simdjson.h>
#include <xxhash.h>

#include <atomic>
#include <thread>
#include <utility>

#include "agent/secret.h"
#include "agent/sources/request_body.h"
#include "agent/sources/request_keys.h"
#include "agent/sources/request_server.h"
#include "agent/sources/source.h"
#include "core/time/instant.h"
#include "net/listener.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Steady = std::chrono::steady_clock;

constexpr auto kOpenAgain = 1s;  // after a failure to listen
constexpr auto kTick = 50ms;     // how soon a stop is noticed
constexpr auto kForDisk = 5s;    // for the spool's disk
constexpr std::int64_t kLargestRequest = 64 << 20, kMostAtOnce = 500;

// By its first bytes: gzip (RFC 1952, section 2.3.1) or zstd (RFC 8878, section 3.1.1).
bool looks_compressed(std::string_view body) {
  return body.starts_with(std::string_view("\x1f\x8b\x08", 3)) ||
         body.starts_with(std::string_view("\x28\xb5\x2f\xfd", 4));
}

class Http final : public Source, public RequestTaker {
 public:
  Http(const SourceMaking& m, const RequestServer::Settings& settings, std::string problem)
      : name_(m.settings.name),
        problem_(std::move(problem)),
        resource_(m.settings.resource),
        zone_(m.settings.zone),
        intake_(m.intake),
        counters_(m.intake.spool(), m.settings.name),
        keys_(m.intake.spool(), m.settings.name,
              static_cast<std::size_t>(m.settings.options.section("keys").number("most")),
              std::chrono::nanoseconds(m.settings.options.section("keys").number("age"))),
        handover_("http/" + name_ + "/" + settings.listen),
        server_(std::static_pointer_cast<RequestServer>(intake_.take_over(handover_))) {
    if (server_ && server_->settings() != settings) server_.reset();
    if (!server_) server_ = std::make_shared<RequestServer>(settings);
  }
  ~Http() override { stop(); }

  void start() override {
    if (!server_->address().empty()) return server_->attach(this);
    opener_ = std::thread([this] { listen(); });
  }
  void stop() override {
    if (!server_) return;
    stopping_ = true;
    if (opener_.joinable()) opener_.join();
    server_->detach(finishing_);
    if (!finishing_ && !server_->address().empty()) intake_.leave(handover_, server_);
    server_.reset();
  }
  void finish() override {
    finishing_ = true;
    server_->turn_away();
  }
  bool finished() const override { return open() == 0; }
  std::uint64_t open() const override { return server_->inside(); }
  std::vector<std::string> listening() const override {
    const std::string address = server_->address();
    if (address.empty()) return {};
    return {(server_->settings().certificate.empty() ? "http " : "https ") + address};
  }

  // ---- for requests ----

  void refused() override { counters_.count("refused"); }

  // Answers when the events of the body are on disk.
  std::optional<HttpAnswer> take(const HttpRequest& in) override {
    const std::string& body = in.body;
    if (in.header("Content-Encoding").empty() && looks_compressed(body)) {
      counters_.count("refused");
      return problem_answer({415, "the body is compressed, and no Content-Encoding says so",
                             "send `Content-Encoding: gzip` or `zstd` with it"});
    }
    auto buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, body.size()));
    std::copy(body.begin(), body.end(), buffer->bytes.get());
    buffer->finish(body.size());
    const std::string_view text(buffer->bytes.get(), buffer->size);
    BodyEvents found;
    const std::size_t most = most_events(server_->settings().largest_request);
    if (in.header("Content-Type").starts_with("application/json")) {
      auto items = items_of(text, server_->settings().longest_line, most);
      if (!items) {
        counters_.count("refused");
        return problem_answer({400, items.problem().message, "lines go as text/plain or application/x-ndjson",
                               "", items.problem().offset});
      }
      found = std::move(*items);
    } else {
      auto lines = lines_of(text, server_->settings().longest_line, most);
      if (lines)
        found = std::move(*lines);
      else
        found.events.resize(most + 1);
    }
    if (found.events.size() > most) {
      counters_.count("refused");
      return problem_answer({413, "the request has more than " + std::to_string(most) + " events",
                             "send them in several requests"});
    }
    const std::uint64_t hash = XXH3_64bits(body.data(), body.size());
    const std::uint64_t events = found.events.size();
    const std::int64_t now = system_now();
    std::string request_key(in.header("Idempotency-Key"));
    if (request_key.empty())
      return answer_of(hand_in(batch_of(in, std::move(buffer), std::move(found))), events);
    // A key is the token's with which it came.
    if (const std::string& token = server_->settings().token; !token.empty())
      request_key += fmt::format("\n{:016x}", XXH3_64bits(token.data(), token.size()));

    const RequestKeys::Found standing = keys_.begin(request_key, hash, now);
    switch (standing.standing) {
      case RequestKeys::Standing::known:
        if (!durable()) return answer_of(Taken::unknown, events);
        counters_.count("repeated");
        return HttpAnswer{200, "application/json",
                          fmt::format("{{\"events\":{},\"known\":true}}\n", standing.events)};
      case RequestKeys::Standing::other_body:
        counters_.count("refused");
        return problem_answer(
            {422, "this Idempotency-Key came with another body before", "use a new key for each request"});
      case RequestKeys::Standing::under_way:
        return problem_answer(
            {409, "a request with this Idempotency-Key is being taken", "ask again in a second"});
      case RequestKeys::Standing::fresh: break;
    }
    SourceBatch batch = batch_of(in, std::move(buffer), std::move(found));
    std::vector<StateChange> changes = keys_.changes(request_key, hash, events, now);
    batch.changes.state = changes;
    const Taken taken = hand_in(std::move(batch));
    keys_.end(request_key, taken == Taken::durable || taken == Taken::unknown ? &changes : nullptr);
    return answer_of(taken, events);
  }

 private:
  using Taken = Intake::Taken;
  std::string about() const { return "source " + name_ + ": listen"; }

  // Until it listens or stops.
  void listen() {
    while (!stopping_ && !finishing_) {
      const std::string problem = problem_.empty() ? server_->listen() : problem_;
      if (problem.empty()) {
        intake_.problems().clear(about());
        return server_->attach(this);
      }
      intake_.problems().set(about(), problem);
      for (const auto again = Steady::now() + kOpenAgain; Steady::now() < again && !stopping_ && !finishing_;)
        std::this_thread::sleep_for(kTick);
    }
  }

  SourceBatch batch_of(const HttpRequest& in, std::shared_ptr<LineBuffer> buffer, BodyEvents found) {
    SourceBatch batch;
    batch.source = name_;
    auto resource = std::make_shared<Resource>();
    resource->zone = zone_;
    for (const auto& [field, text] : resource_) resource->add(field, text);
    resource->add("network.peer.address", in.peer);
    batch.slices = {{server_->stream_of(in), std::move(resource)}};
    batch.observed = system_now();
    const std::uint64_t position = server_->position_of(buffer->size);
    std::uint64_t invalid = 0;
    for (SourceLine& line : found.events) {
      line.position += position;
      invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
    }
    auto add = [&](const char* what, std::uint64_t n) { counters_.add(batch.changes, what, n); };
    add("requests", 1);
    add("lines", found.lines);
    add("empty", found.empty);
    add("events", found.events.size());
    add("cut", found.cut);
    add("cut_bytes", found.cut_bytes);
    add("invalid_utf8", invalid);
    batch.lines = std::move(found.events);
    batch.bytes = buffer->size;
    batch.buffer = std::move(buffer);
    return batch;
  }

  Taken hand_in(SourceBatch batch) {
    return intake_.submit_durably(std::move(batch), RequestServer::kPatience, kForDisk);
  }
  // nullopt: it stops, and took nothing.
  std::optional<HttpAnswer> answer_of(Taken taken, std::uint64_t events) {
    switch (taken) {
      case Taken::durable:
        return HttpAnswer{200, "application/json", fmt::format("{{\"events\":{}}}\n", events)};
      case Taken::no_room:
        counters_.count("turned_away");
        return problem_answer({503, "the queues are full", "send it again later"});
      case Taken::unknown:
        return problem_answer({503, "the events may be on disk or not",
                               "send it again, with the same Idempotency-Key if it had one"});
      case Taken::stopping: break;
    }
    return std::nullopt;
  }
  bool durable() {
    for (const auto until = Steady::now() + kForDisk; Steady::now() < until;)
      if (intake_.spool().wait_durable(kTick)) return true;
    return false;
  }

  const std::string name_;
  const std::string problem_;  // with a secret
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  Intake& intake_;
  const SourceCounters counters_;
  RequestKeys keys_;
  const std::string handover_;  // key of what the next source takes over
  std::shared_ptr<RequestServer> server_;
  std::atomic<bool> stopping_{false}, finishing_{false};
  std::thread opener_;
};

std::shared_ptr<const Prepared> prepare_http(const Checking& c) {
  const Options& o = c.options;
  const std::string& address = o.text("listen");
  if (const std::string problem = address_problem(address); !problem.empty())
    c.findings.error(o.where("listen"), problem, "for instance 127.0.0.1:8080, or [::1]:8080");
  else if (const std::string host = host_and_port(address).host;
           !o.given("token") && host != "localhost" && !host.starts_with("127.") && host != "::1")
    c.findings.warning(o.where("listen"), "anyone who reaches " + address + " can write events",
                       "give `token`, or listen on 127.0.0.1");
  if (!o.text("path").starts_with('/')) c.findings.error(o.where("path"), "`path` begins with /");
  const Options& tls = o.section("tls");
  if (tls.given("certificate") != tls.given("key"))
    c.findings.error(o.where("tls"), "`tls` needs both `certificate` and `key`");
  return nullptr;
}

const SourceKind kHttpSource{
    {"http",
     "Takes what clients POST: lines, or JSON documents (`Content-Type: application/json`; the items of an "
     "array are "
     "events each). Answered when the events are on disk in the spool. A request with an `Idempotency-Key` "
     "can be "
     "sent again without storing its events twice.",
     "http: { listen: 127.0.0.1:8080 }",
     {{.name = "listen",
       .type = OptionType::text,
       .text = "Address and port. Port 0 takes a free one, which `dingle status` names.",
       .required = true},
      {.name = "path", .type = OptionType::text, .fallback = "/", .text = "Where requests go."},
      {.name = "token", .type = OptionType::secret, .text = "Clients send it as a bearer token (RFC 6750)."},
      {.name = "tls",
       .type = OptionType::section,
       .text = "For https.",
       .section =
           {{.name = "certificate", .type = OptionType::text, .text = "File of the certificate (PEM)."},
            {.name = "key", .type = OptionType::text, .text = "File of its key."}}},
      {.name = "longest_line",
       .type = OptionType::size,
       .fallback = "1MiB",
       .text = "Longer lines and items are cut there; what is cut off is counted.",
       .least = 64},
      {.name = "largest_request",
       .type = OptionType::size,
       .fallback = "8MiB",
       .text = "Larger ones are refused, at most 64 MiB. Memory: some times that for each that is worked on.",
       .least = 1024,
       .most = kLargestRequest},
      {.name = "at_once",
       .type = OptionType::integer,
       .fallback = "16",
       .text = "How many requests are worked on at once; others wait.",
       .least = 1,
       .most = kMostAtOnce},
      {.name = "keys",
       .type = OptionType::section,
       .text = "How long an `Idempotency-Key` is known.",
       .section = {{.name = "most",
                    .type = OptionType::integer,
                    .fallback = "10000",
                    .text = "Beyond that the oldest are forgotten.",
                    .least = 1},
                   {.name = "age",
                    .type = OptionType::duration,
                    .fallback = "24h",
                    .text = "Older ones are forgotten.",
                    .least = 1'000'000'000}}}}},
    prepare_http,
    [](const SourceMaking& m) -> std::unique_ptr<Source> {
      const Options& o = m.settings.options;
      auto token = o.given("token") ? read_token_at(o.text("token")) : Result<std::string>(std::string());
      RequestServer::Settings s{o.text("listen"),
                                o.text("path"),
                                token ? *token : "",
                                o.section("tls").text("certificate"),
                                o.section("tls").text("key"),
                                static_cast<std::size_t>(o.number("longest_line")),
                                static_cast<std::size_t>(o.number("largest_request")),
                                static_cast<std::size_t>(o.number("at_once"))};
      return std::make_unique<Http>(m, s, token ? "" : token.problem().message);
    },
    {"network.peer.address"}};
const SourceRegistration http_source(kHttpSource);

}  // namespace
}  // namespace dingle

// http: lines or JSON documents that clients post. A request is answered once its events are on disk in the
// spool; with an Idempotency-Key it can be sent again without storing them twice.
#include <fmt/format.h>
#include <httplib.h>
#include <simdjson.h>
#include <xxhash.h>

#include <atomic>
#include <condition_variable>
#include <mutex>
#include <thread>
#include <utility>

#include "agent/destinations/compression.h"
#include "agent/secret.h"
#include "agent/sources/listener.h"
#include "agent/sources/request_body.h"
#include "agent/sources/request_keys.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Clock = std::chrono::steady_clock;

constexpr auto kOpenAgain = 1s;  // after a failure to listen
constexpr auto kTick = 50ms;     // how soon a stop is noticed
constexpr auto kPatience = 4s;   // for room in full queues, and for the next configuration
constexpr auto kForDisk = 5s;    // for the spool's disk
constexpr std::size_t kLongestKey = 255;
constexpr std::int64_t kLargestRequest = 64 << 20, kMostConnections = 500;

struct Settings {
  std::string listen, path, token, certificate, key;
  std::size_t longest_line = 0, largest_request = 0, connections = 0;
  auto operator<=>(const Settings&) const = default;
};

class Http;

// What a reload must not end: the server with its connections. Requests that come meanwhile wait for the next
// source.
struct Open {
  explicit Open(Settings settings_) : settings(std::move(settings_)) {}
  ~Open() {
    if (!server) return;
    {
      std::lock_guard lock(mutex);
      ending = true;  // whoever waits for a source need not
      changed.notify_all();
    }
    server->stop();
    thread.join();
  }
  const Settings settings;
  std::unique_ptr<httplib::Server> server;
  std::thread thread;
  std::string address;  // that it listens on
  const std::uint64_t streams = new_stream();
  std::atomic<std::uint64_t> taken{0};  // bytes; the position of the next request in its stream
  std::mutex mutex;                     // guards what follows
  std::condition_variable changed;
  Http* source = nullptr;
  std::size_t inside = 0;  // requests that are with the source
  bool ending = false;
};

void answer(httplib::Response& out, int status, const std::string& message, const std::string& hint = "",
            std::optional<std::size_t> offset = {}) {
  std::string body = R"({"error":{"message":)";
  append_json_string(body, message);
  if (!hint.empty()) append_json_string(body += R"(,"hint":)", hint);
  if (offset) body += R"(,"offset":)" + std::to_string(*offset);
  out.status = status;
  out.set_content(body + "}}\n", "application/json");
  if (status == 409 || status == 503) out.set_header("Retry-After", "1");
}

class Http final : public Source {
 public:
  Http(const SourceMaking& m, Settings settings, std::string problem)
      : name_(m.settings.name),
        settings_(std::move(settings)),
        problem_(std::move(problem)),
        resource_(m.settings.resource),
        zone_(m.settings.zone),
        intake_(m.intake),
        keys_(m.intake.spool(), m.settings.name,
              static_cast<std::size_t>(m.settings.options.section("keys").number("most")),
              std::chrono::nanoseconds(m.settings.options.section("keys").number("age"))),
        open_(std::static_pointer_cast<Open>(intake_.take_over(key()))) {
    if (open_ && open_->settings != settings_) open_.reset();
    if (!open_) open_ = std::make_shared<Open>(settings_);
  }
  ~Http() override { stop(); }

  void start() override {
    if (open_->server) return attach();
    opener_ = std::thread([this] { listen(); });
  }
  void stop() override {
    if (!open_) return;
    stopping_ = true;
    if (opener_.joinable()) opener_.join();
    {
      std::unique_lock lock(open_->mutex);
      open_->source = nullptr;
      open_->ending = finishing_;
      open_->changed.notify_all();
      open_->changed.wait(lock, [&] { return open_->inside == 0; });
    }
    if (!finishing_ && open_->server) intake_.leave(key(), open_);
    open_.reset();
  }
  void finish() override {
    finishing_ = true;
    std::lock_guard lock(open_->mutex);
    open_->ending = true;
    open_->changed.notify_all();
  }
  bool finished() const override { return open() == 0; }
  std::uint64_t open() const override {
    std::lock_guard lock(open_->mutex);
    return open_->inside;
  }
  std::vector<std::string> listening() const override {
    std::lock_guard lock(open_->mutex);
    if (open_->address.empty()) return {};
    return {(settings_.certificate.empty() ? "http " : "https ") + open_->address};
  }

  // ---- for requests ----

  void count(const char* what) { intake_.spool().count({{"source/" + name_ + "/" + what, 1}}); }

  // Takes the body, and answers when its events are on disk. False: not, since the source stops.
  bool take(const httplib::Request& in, const std::string& body, httplib::Response& out) {
    auto buffer = std::make_shared<LineBuffer>(std::max<std::size_t>(1, body.size()));
    std::copy(body.begin(), body.end(), buffer->bytes.get());
    buffer->finish(body.size());
    const std::string_view text(buffer->bytes.get(), buffer->size);
    BodyEvents found;
    if (in.get_header_value("Content-Type").starts_with("application/json")) {
      auto items = items_of(text, settings_.longest_line);
      if (!items) {
        count("refused");
        answer(out, 400, items.problem().message, "lines go as text/plain or application/x-ndjson",
               items.problem().offset);
        return true;
      }
      found = std::move(*items);
    } else {
      found = lines_of(text, settings_.longest_line);
    }
    const std::uint64_t hash = XXH3_64bits(body.data(), body.size());
    const std::uint64_t events = found.events.size();
    const std::int64_t now = system_now();
    const std::string request_key = in.get_header_value("Idempotency-Key");
    if (request_key.empty())
      return hand_in(batch_of(in, std::move(buffer), std::move(found)), events, out) != Taken::stopping;

    const RequestKeys::Found standing = keys_.begin(request_key, hash, now);
    switch (standing.standing) {
      case RequestKeys::Standing::known:
        if (!durable()) return answer_unknown(out), true;
        count("repeated");
        out.set_content(fmt::format("{{\"events\":{},\"known\":true}}\n", standing.events),
                        "application/json");
        return true;
      case RequestKeys::Standing::other_body:
        count("refused");
        answer(out, 422, "this Idempotency-Key came with another body before",
               "use a new key for each request");
        return true;
      case RequestKeys::Standing::under_way:
        answer(out, 409, "a request with this Idempotency-Key is being taken", "ask again in a second");
        return true;
      case RequestKeys::Standing::fresh: break;
    }
    SourceBatch batch = batch_of(in, std::move(buffer), std::move(found));
    std::vector<StateChange> changes = keys_.changes(request_key, hash, events, now);
    batch.changes.state = changes;
    const Taken taken = hand_in(std::move(batch), events, out);
    keys_.end(request_key, taken == Taken::durable || taken == Taken::unknown ? &changes : nullptr);
    return taken != Taken::stopping;
  }

 private:
  using Taken = Intake::Taken;
  std::string key() const { return "http/" + name_ + "/" + settings_.listen; }
  std::string about() const { return "source " + name_ + ": listen"; }

  void attach() {
    std::lock_guard lock(open_->mutex);
    open_->source = this;
    open_->changed.notify_all();
  }

  // Until it listens or stops.
  void listen() {
    while (!stopping_ && !finishing_) {
      const std::string problem = problem_.empty() ? try_to_listen() : problem_;
      if (problem.empty()) {
        intake_.problems().clear(about());
        return attach();
      }
      intake_.problems().set(about(), problem);
      for (const auto again = Clock::now() + kOpenAgain; Clock::now() < again && !stopping_ && !finishing_;)
        std::this_thread::sleep_for(kTick);
    }
  }

  std::string try_to_listen();

  SourceBatch batch_of(const httplib::Request& in, std::shared_ptr<LineBuffer> buffer, BodyEvents found) {
    SourceBatch batch;
    batch.source = name_;
    // A stream is a connection: its requests come one after another.
    const std::string peer = in.remote_addr + ' ' + std::to_string(in.remote_port);
    batch.stream = XXH3_64bits_withSeed(peer.data(), peer.size(), open_->streams);
    auto resource = std::make_shared<Resource>();
    resource->zone = zone_;
    for (const auto& [field, text] : resource_) resource->add(field, text);
    resource->add("network.peer.address", in.remote_addr);
    batch.resource = std::move(resource);
    batch.observed = system_now();
    const std::uint64_t position = open_->taken.fetch_add(buffer->size + 1);
    std::uint64_t invalid = 0;
    for (SourceLine& line : found.events) {
      line.position += position;
      invalid += !simdjson::validate_utf8(line.text.data(), line.text.size());
    }
    auto add = [&](const char* what, std::uint64_t n) {
      if (n) batch.changes.counters.push_back({"source/" + name_ + "/" + what, static_cast<std::int64_t>(n)});
    };
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

  Taken hand_in(SourceBatch batch, std::uint64_t events, httplib::Response& out) {
    const Taken taken = intake_.submit_durably(std::move(batch), kPatience, kForDisk);
    if (taken == Taken::durable) {
      out.status = 200;
      out.set_content(fmt::format("{{\"events\":{}}}\n", events), "application/json");
    } else if (taken == Taken::no_room) {
      count("turned_away");
      answer(out, 503, "the queues are full", "send it again later");
    } else if (taken == Taken::unknown) {
      answer_unknown(out);
    }
    return taken;
  }
  static void answer_unknown(httplib::Response& out) {
    answer(out, 503, "the events may be on disk or not",
           "send it again, with the same Idempotency-Key if it had one");
  }
  bool durable() {
    for (const auto until = Clock::now() + kForDisk; Clock::now() < until;)
      if (intake_.spool().wait_durable(kTick)) return true;
    return false;
  }

  const std::string name_;
  const Settings settings_;
  const std::string problem_;  // with a secret
  const std::vector<std::pair<std::string, std::string>> resource_;
  const Zone zone_;
  Intake& intake_;
  RequestKeys keys_;
  std::shared_ptr<Open> open_;
  std::atomic<bool> stopping_{false}, finishing_{false};
  std::thread opener_;
};

// For what is wrong with a request before its source sees it.
void refuse(Open& open, httplib::Response& out, int status, const std::string& message,
            const std::string& hint = "") {
  {
    std::lock_guard lock(open.mutex);
    if (open.source != nullptr) open.source->count("refused");
  }
  answer(out, status, message, hint);
  out.set_header("Connection", "close");  // a part of the body may be unread
}
void refuse_size(Open& open, httplib::Response& out) {
  refuse(open, out, 413,
         "the request is larger than " + std::to_string(open.settings.largest_request) + " bytes",
         "send less at once, or raise `largest_request`");
}

// One request, from its head to its answer.
void serve(Open& open, const httplib::Request& in, httplib::Response& out,
           const httplib::ContentReader& read_body) {
  const std::size_t most = open.settings.largest_request;
  std::string body;
  bool too_large = false;
  const bool whole = read_body([&](const char* bytes, std::size_t n) {
    too_large = body.size() + n > most;
    if (!too_large) body.append(bytes, n);
    return !too_large;
  });
  const std::string coding = in.get_header_value("Content-Encoding");
  if (too_large) return refuse_size(open, out);
  if (!whole)
    return refuse(open, out, 400,
                  "the body did not come whole" + (coding.empty() ? "" : ", or it is not " + coding));
  if (coding == "zstd") {  // others were seen to already
    auto text = decompress_zstd(body, most);
    if (!text && text.problem().length == 0) return refuse_size(open, out);
    if (!text) return refuse(open, out, 400, "the body is " + text.problem().message);
    body = std::move(*text);
  }

  for (const auto until = Clock::now() + kPatience;;) {
    Http* source = nullptr;
    {
      std::unique_lock lock(open.mutex);
      open.changed.wait_until(lock, until, [&] { return open.source != nullptr || open.ending; });
      if (open.source == nullptr || open.ending) {
        out.set_header("Connection", "close");
        return answer(out, 503, "dingled is stopping", "send it again later");
      }
      source = open.source;
      ++open.inside;
    }
    const bool taken = source->take(in, body, out);
    {
      std::lock_guard lock(open.mutex);
      --open.inside;
      open.changed.notify_all();
    }
    if (taken) return;
    std::this_thread::sleep_for(1ms);  // until the source is out, if it is going
  }
}

// Before the body is read: whether it may come.
httplib::Server::HandlerResponse admit(Open& open, const httplib::Request& in, httplib::Response& out) {
  const Settings& s = open.settings;
  auto no = [&](int status, const std::string& message, const std::string& hint) {
    refuse(open, out, status, message, hint);
    return httplib::Server::HandlerResponse::Handled;
  };
  const std::string header = in.get_header_value("Authorization");
  if (!s.token.empty() && !(header.starts_with("Bearer ") && tokens_equal(header.substr(7), s.token))) {
    out.set_header("WWW-Authenticate", "Bearer");
    return no(401, header.empty() ? "this needs the token" : "this is not the token",
              "send `Authorization: Bearer TOKEN`");
  }
  if (in.path != s.path) return no(404, "nothing is at " + in.path, "POST " + s.path);
  if (in.method != "POST") {
    out.set_header("Allow", "POST");
    return no(405, in.method + " is not offered", "POST " + s.path);
  }
  if (in.get_header_value<std::uint64_t>("Content-Length", 0) > s.largest_request) {
    refuse_size(open, out);
    return httplib::Server::HandlerResponse::Handled;
  }
  if (in.get_header_value("Idempotency-Key").size() > kLongestKey)
    return no(400, "the Idempotency-Key is longer than 255 bytes", "");
  if (const std::string coding = in.get_header_value("Content-Encoding");
      !coding.empty() && coding != "gzip" && coding != "deflate" && coding != "zstd" && coding != "identity")
    return no(415, "the Content-Encoding `" + coding + "` is not known", "send gzip, zstd or identity");
  return httplib::Server::HandlerResponse::Unhandled;
}

std::string Http::try_to_listen() {
  std::unique_ptr<httplib::Server> server;
  if (settings_.certificate.empty())
    server = std::make_unique<httplib::Server>();
  else
    server = std::make_unique<httplib::SSLServer>(settings_.certificate.c_str(), settings_.key.c_str());
  if (!server->is_valid()) return "the certificate or the key of `tls` cannot be used";
  Open* open = open_.get();
  server->new_task_queue = [n = settings_.connections] { return new httplib::ThreadPool(n); };
  server->set_payload_max_length(settings_.largest_request);
  server->set_read_timeout(30, 0);
  server->set_write_timeout(10, 0);
  server->set_keep_alive_timeout(2);
  server->set_keep_alive_max_count(1'000'000);
  server->set_tcp_nodelay(true);
  server->set_socket_options([](int fd) { reuse_address(fd); });
  server->set_pre_routing_handler(
      [open](const httplib::Request& in, httplib::Response& out) { return admit(*open, in, out); });
  server->Post(".*", [open](const httplib::Request& in, httplib::Response& out,
                            const httplib::ContentReader& read) { serve(*open, in, out, read); });
  const HostPort to = host_and_port(settings_.listen);
  int port = std::stoi(to.port);
  if (port == 0)
    port = server->bind_to_any_port(to.host);
  else if (!server->bind_to_port(to.host, port))
    port = -1;
  if (port < 0) return "cannot listen on " + settings_.listen + ": " + std::strerror(errno);
  open->thread = std::thread([s = server.get()] { s->listen_after_bind(); });
  while (!server->is_running()) std::this_thread::sleep_for(1ms);
  std::lock_guard lock(open->mutex);
  open->server = std::move(server);
  open->address = settings_.listen.substr(0, settings_.listen.rfind(':') + 1) + std::to_string(port);
  return "";
}

std::shared_ptr<const Prepared> prepare(const SourceChecking& c) {
  const Options& o = c.options;
  const std::string& address = o.text("listen");
  if (const std::string problem = address_problem(address); !problem.empty())
    c.findings.error(*o.node("listen"), problem, "for instance 127.0.0.1:8080, or [::1]:8080");
  else if (const std::string host = host_and_port(address).host;
           !o.given("token") && host != "localhost" && !host.starts_with("127.") && host != "::1")
    c.findings.warning(*o.node("listen"), "anyone who reaches " + address + " can write events",
                       "give `token`, or listen on 127.0.0.1");
  if (!o.text("path").starts_with('/')) c.findings.error(*o.node("path"), "`path` begins with /");
  if (o.number("largest_request") > kLargestRequest)
    c.findings.error(*o.node("largest_request"), "`largest_request` is at most 64MiB");
  if (o.number("most_connections") > kMostConnections)
    c.findings.error(*o.node("most_connections"),
                     "`most_connections` is at most " + std::to_string(kMostConnections));
  const Options& tls = o.section("tls");
  if (tls.given("certificate") != tls.given("key"))
    c.findings.error(*o.node("tls"), "`tls` needs both `certificate` and `key`");
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
       .text = "Larger ones are refused, at most 64 MiB. Memory: some times that for each connection.",
       .least = 1024},
      {.name = "most_connections",
       .type = OptionType::integer,
       .fallback = "16",
       .text = "How many connections are served at once, at most 500; others wait.",
       .least = 1},
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
    prepare,
    [](const SourceMaking& m) -> std::unique_ptr<Source> {
      const Options& o = m.settings.options;
      auto token = read_secret(o, "token");
      Settings s{o.text("listen"),
                 o.text("path"),
                 token ? *token : "",
                 o.section("tls").text("certificate"),
                 o.section("tls").text("key"),
                 static_cast<std::size_t>(o.number("longest_line")),
                 static_cast<std::size_t>(o.number("largest_request")),
                 static_cast<std::size_t>(o.number("most_connections"))};
      return std::make_unique<Http>(m, std::move(s), token ? "" : token.problem().message);
    }};
const SourceRegistration http_source(kHttpSource);

}  // namespace
}  // namespace dingle

// http: any service that takes bulk requests. At least once, with an id that stays the same over repetitions.
#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <map>
#include <thread>

#include "agent/destinations/compression.h"
#include "agent/destinations/destination.h"
#include "agent/destinations/frame.h"
#include "agent/destinations/http_call.h"
#include "agent/json.h"
#include "agent/secret.h"
#include "store/index_file.h"

namespace dingle {
namespace {

using Events = std::vector<const SpooledEvent*>;

constexpr std::size_t kShownAnswer = 200;  // bytes of an answer in a reason

// The value at a JSON pointer (RFC 6901) in which `*` stands for the only, or first, key of an object.
const Json* at_pointer(const Json& root, std::string_view pointer) {
  const Json* at = &root;
  while (!pointer.empty()) {
    pointer.remove_prefix(1);  // the slash
    const std::string key(pointer.substr(0, pointer.find('/')));
    pointer.remove_prefix(key.size());
    if (at->is_array()) {
      const std::size_t i = static_cast<std::size_t>(std::strtoull(key.c_str(), nullptr, 10));
      if (key.empty() || key.find_first_not_of("0123456789") != std::string::npos || i >= at->size())
        return nullptr;
      at = &(*at)[i];
    } else if (at->is_object() && !at->empty()) {
      auto it = key == "*" ? at->begin() : at->find(key);
      if (it == at->end()) return nullptr;
      at = &*it;
    } else {
      return nullptr;
    }
  }
  return at;
}

std::string text_of(const Json* value) {
  if (value == nullptr || value->is_null()) return "";
  return value->is_string() ? value->get<std::string>() : dump(*value);
}

std::string beginning(std::string_view text) {
  std::string out(text.substr(0, kShownAnswer));
  for (char& c : out)
    if (static_cast<unsigned char>(c) < ' ') c = ' ';
  return text.size() > kShownAnswer ? out + "..." : out;
}

struct Settings {
  FrameText url;
  std::map<std::string, FrameText> headers;
  Frame frame;
  std::string content_type;
  HttpTarget target;
  Compression compression = Compression::none;
  std::vector<std::string> group_by;
  std::vector<std::int64_t> refuse_on{400, 413, 422}, accept_on;
  std::string each, code, why, message;  // JSON pointers
  std::size_t requests = 1;
  bool keeps_order = true;
};

// One connection; used by one thread at a time.
class Requester {
 public:
  Requester(const Settings& settings, const Rendering& rendering, const std::atomic<bool>& cancelled)
      : settings_(settings), rendering_(rendering), cancelled_(cancelled) {}

  Delivery send(const Events& events) {
    const std::string url = settings_.url.url(rendering_, *events.front());
    settings_.frame.body(rendering_, events, body_);
    std::string compressed;
    if (settings_.compression != Compression::none) compressed = compress(settings_.compression, body_);
    const std::string& body = settings_.compression == Compression::none ? body_ : compressed;
    std::vector<std::string> headers{"Content-Type: " + settings_.content_type};
    if (settings_.compression != Compression::none)
      headers.push_back(std::string("Content-Encoding: ") + content_coding(settings_.compression));
    for (const auto& [name, value] : settings_.headers) {
      std::string line = name + ": ";
      value.append(rendering_, *events.front(), events.size(), line);
      std::erase_if(line, [](char c) { return c == '\r' || c == '\n'; });
      headers.push_back(std::move(line));
    }
    const HttpReply reply = connection_.call(settings_.target, url, headers, body, cancelled_);
    const std::string where = url.substr(0, url.find('?'));
    if (!reply.error.empty()) return Delivery::retry(where + ": " + reply.error, reply.too_slow);
    Delivery d = judge(where, reply.status, reply.body, events.size());
    if (reply.retry_after.count() > 0) d.retry_after = reply.retry_after;
    return d;
  }

  void idle() { std::string().swap(body_); }

 private:
  Outcome::Form form_of(std::int64_t status) const {
    auto in = [&](const std::vector<std::int64_t>& list) {
      return std::find(list.begin(), list.end(), status) != list.end();
    };
    if (in(settings_.accept_on)) return Outcome::Form::accepted;
    if (in(settings_.refuse_on)) return Outcome::Form::refused;
    return status >= 200 && status < 300 ? Outcome::Form::accepted : Outcome::Form::retry;
  }

  Delivery judge(const std::string& where, long status, const std::string& answer, std::size_t events) const {
    const Outcome::Form form = form_of(status);
    const Json json = settings_.each.empty() && settings_.message.empty() ? Json(Json::value_t::discarded)
                                                                          : parse_json(answer);
    if (form != Outcome::Form::accepted) {
      std::string message;
      if (!json.is_discarded() && !settings_.message.empty())
        message = text_of(at_pointer(json, settings_.message));
      if (message.empty()) message = beginning(answer);
      Delivery d;
      std::string reason = fmt::format("{}: answered {}", where, status);
      if (status == 401 || status == 403) reason += ", not allowed (is `auth` right?)";
      if (status == 404 || status == 405) reason += " (is the URL right?)";
      if (status >= 300 && status < 400) reason += ", a redirection, which is not followed";
      if (!message.empty()) reason += ": " + message;
      d.outcomes = {{form, reason}};
      // A server that is down or busy says nothing of the events.
      d.separable = form == Outcome::Form::refused || status == 500;
      d.too_slow = form == Outcome::Form::retry && (status == 408 || status == 504);
      return d;
    }
    if (settings_.each.empty()) return {};
    const Json* items = json.is_discarded() ? nullptr : at_pointer(json, settings_.each);
    if (items == nullptr || !items->is_array() || items->size() != events)
      return Delivery::retry(
          fmt::format("{}: the answer {}: {}", where,
                      answer.size() == settings_.target.most_body
                          ? "is longer than 4 MiB: fewer events at once (`batch`) would help"
                      : json.is_discarded() ? std::string("is not JSON")
                      : items == nullptr || !items->is_array()
                          ? "has no list at " + settings_.each
                          : fmt::format("tells of {} events, not of {}", items->size(), events),
                      beginning(answer)));
    Delivery d;
    d.outcomes.clear();
    for (const Json& item : *items) {
      const Json* number = at_pointer(item, settings_.code);
      const std::int64_t code = number && number->is_number_integer() ? number->get<std::int64_t>() : 0;
      Outcome o{number ? form_of(code) : Outcome::Form::retry, ""};
      if (o.form != Outcome::Form::accepted) {
        const std::string error = settings_.why.empty() ? "" : text_of(at_pointer(item, settings_.why));
        o.reason =
            fmt::format("{}: answered {} for the event{}", where, code, error.empty() ? "" : ": " + error);
        d.judged |= o.form == Outcome::Form::retry && code != 429 && code != 503;
      }
      d.outcomes.push_back(std::move(o));
    }
    return d;
  }

  const Settings& settings_;
  const Rendering& rendering_;
  const std::atomic<bool>& cancelled_;
  HttpConnection connection_;
  std::string body_;
};

// Requests that keep the order of every stream: a stream's events always go through the same requester.
class Http final : public Destination {
 public:
  Http(Settings settings, Rendering rendering, std::string problem)
      : settings_(std::move(settings)), rendering_(std::move(rendering)), problem_(std::move(problem)) {
    for (std::size_t i = 0; i < settings_.requests; ++i)
      requesters_.push_back(std::make_unique<Requester>(settings_, rendering_, cancelled_));
  }
  void cancel() override { cancelled_ = true; }
  bool reads_ahead() const override { return true; }
  Housekeeping idle() override {
    for (auto& requester : requesters_) requester->idle();
    return {};
  }

  Delivery deliver(std::span<const DeliveryEvent> events) override {
    if (!problem_.empty()) return Delivery::retry(problem_);
    // By requester, and within it by group, in order.
    struct Request {
      Events events;
      std::vector<std::size_t> which;
      Delivery delivery;
    };
    std::vector<std::vector<Request>> requests(requesters_.size());
    std::vector<std::map<std::string, std::size_t>> groups(requesters_.size());
    for (std::size_t i = 0; i < events.size(); ++i) {
      const SpooledEvent& e = events[i].event;
      const std::size_t requester = settings_.keeps_order ? lane_of(e.stream) % requesters_.size()
                                                          : i * requesters_.size() / events.size();
      std::string key;
      for (const std::string& field : settings_.group_by) key += rendering_.text_of(e, field) + '\0';
      auto [it, added] = groups[requester].try_emplace(std::move(key), requests[requester].size());
      if (added) requests[requester].emplace_back();
      Request& request = requests[requester][it->second];
      request.events.push_back(&e);
      request.which.push_back(i);
    }
    auto run = [&](std::size_t s) {
      for (Request& r : requests[s]) r.delivery = requesters_[s]->send(r.events);
    };
    std::vector<std::thread> threads;
    std::size_t own = requesters_.size();
    for (std::size_t s = 0; s < requesters_.size(); ++s) {
      if (requests[s].empty()) continue;
      if (own == requesters_.size())
        own = s;
      else
        threads.emplace_back(run, s);
    }
    run(own);
    for (std::thread& t : threads) t.join();
    if (threads.empty() && requests[own].size() == 1) return std::move(requests[own][0].delivery);
    // Several answers become one.
    Delivery all;
    all.outcomes.assign(events.size(), Outcome{});
    for (auto& list : requests)
      for (Request& r : list) {
        // A part that was refused as a whole is not to blame on each of its events: it comes again, alone.
        const bool whole = r.delivery.outcomes.size() == 1 && r.events.size() > 1;
        for (std::size_t i = 0; i < r.which.size(); ++i) {
          Outcome o = r.delivery.of(i);
          if (whole && r.delivery.separable && o.form == Outcome::Form::refused)
            o.form = Outcome::Form::retry;
          all.outcomes[r.which[i]] = std::move(o);
        }
        all.separable |= whole && r.delivery.separable;
        all.judged |= r.delivery.judged;
        all.too_slow |= r.delivery.too_slow;
        if (r.delivery.retry_after) all.retry_after = r.delivery.retry_after;
      }
    return all;
  }

 private:
  Settings settings_;
  Rendering rendering_;
  std::string problem_;
  std::atomic<bool> cancelled_{false};
  std::vector<std::unique_ptr<Requester>> requesters_;
};

// Reads what can be wrong in the options; the same when checking and when making.
Settings read_settings(const Options& o, Findings* findings) {
  Settings s;
  auto frame_text = [&](const Options& section, const char* name) {
    auto text = FrameText::parse(section.text(name));
    if (text) return *text;
    if (findings && section.node(name)) findings->error_within(*section.node(name), text.problem());
    return FrameText();
  };
  auto literal = [](const char* text) { return *FrameText::parse(text); };
  s.url = frame_text(o, "url");
  s.target.method = o.text("method");
  s.compression = compression_named(o.text("compression"));
  s.group_by = o.texts("group_by");
  for (const std::string& field : s.group_by) field_id(field);  // known before the first event is read
  s.target.timeout = std::chrono::milliseconds(o.number("timeout") / 1'000'000);
  s.requests = static_cast<std::size_t>(o.number("requests"));
  s.keeps_order = o.text("order") == "stream";
  for (const Node::Entry& e : o.tree("headers").entries) {
    auto text = FrameText::parse(e.value.scalar);
    if (text)
      s.headers[e.key] = *text;
    else if (findings)
      findings->error_within(e.value, text.problem());
  }
  const Options& body = o.section("body");
  const std::string& form = body.text("form");
  s.frame.begin = frame_text(body, "begin");
  s.frame.before = frame_text(body, "before");
  s.frame.event = body.given("event") ? frame_text(body, "event") : literal("${event}");
  s.frame.between = frame_text(body, "between");
  s.frame.end = frame_text(body, "end");
  if (form == "lines") {
    s.frame.between = literal("\n");
    s.frame.end = literal("\n");
    if (!s.frame.before.empty()) s.frame.before = literal((body.text("before") + "\n").c_str());
  } else if (form == "array") {
    s.frame.begin = literal("[");
    s.frame.between = literal(",");
    s.frame.end = literal("]");
  }
  s.content_type = o.given("content_type") ? o.text("content_type")
                   : form == "lines"       ? "application/x-ndjson"
                                           : "application/json";
  if (findings) {
    for (const char* name : {"begin", "between", "end"})
      if (form != "template" && body.given(name))
        findings->error(*body.node(name), std::string("`") + name + "` needs `form: template`",
                        "for `lines` and `array` it is given");
    if (!o.text("url").starts_with("http://") && !o.text("url").starts_with("https://"))
      findings->error(o.where("url"), "`url` begins with http:// or https://");
    if (o.text("url").find('@') != std::string::npos && o.text("url").find('@') < o.text("url").find('/', 8))
      findings->error(o.where("url"), "a user or password does not stand in `url`",
                      "write auth: { user: NAME, password: { env: NAME } }");
    const std::size_t host = std::min(o.text("url").find("://"), o.text("url").size() - 1);
    if (o.text("url").substr(0, o.text("url").find_first_of("/?", host + 3)).find("${") != std::string::npos)
      findings->error(o.where("url"), "`url` names its host itself: no field may say where events go",
                      "fields stand behind the host; for several hosts make several destinations");
    for (const std::string& field : s.url.fields())
      if (std::find(s.group_by.begin(), s.group_by.end(), field) == s.group_by.end())
        findings->error(o.where("url"),
                        "`url` names the field `" + field + "`, by which requests are not grouped",
                        "add it to `group_by`");
  }
  const Options& answer = o.section("answer");
  for (auto [name, to] :
       {std::pair{"each", &s.each}, {"code", &s.code}, {"why", &s.why}, {"message", &s.message}}) {
    *to = answer.text(name);
    if (findings && !to->empty() && to->front() != '/')
      findings->error(*answer.node(name),
                      std::string("`") + name + "` takes a JSON pointer, which begins with /",
                      "for instance /results");
  }
  if (findings)
    for (const char* name : {"code", "why"})
      if (answer.given(name) != answer.given("each"))
        findings->error(answer.given("each") ? answer.where("each") : answer.where(name),
                        std::string("`each` and `") + name + "` need each other",
                        "`each` leads to the list, `code` and `why` to an item's code and reason: "
                        "{ each: /results, code: /code, why: /why }");
  if (answer.given("refuse_on")) s.refuse_on = answer.numbers("refuse_on");
  s.accept_on = answer.numbers("accept_on");
  read_tls(o.section("tls"), s.target);
  s.target.user = o.section("auth").text("user");
  return s;
}

const DestinationKind kHttpDestination{
    {"http",
     "A service that takes events in bulk requests. At least once: after a failure the last ones may come "
     "again, with the same `dingle.id`. Recipes are in docs/destinations.md.",
     "http: { url: 'http://127.0.0.1:8123/?query=INSERT%20INTO%20gate%20FORMAT%20JSONEachRow' }",
     {{.name = "url",
       .type = OptionType::text,
       .text = "Where requests go. `${field}` puts in a field of `group_by`.",
       .required = true},
      {.name = "method",
       .type = OptionType::choice,
       .fallback = "POST",
       .text = "The method.",
       .choices = {"POST", "PUT", "PATCH"}},
      {.name = "headers", .type = OptionType::values, .text = "Further headers: `name: value`."},
      {.name = "auth",
       .type = OptionType::section,
       .text = "Credentials.",
       .section = {{.name = "bearer", .type = OptionType::secret, .text = "A token (RFC 6750)."},
                   {.name = "user", .type = OptionType::text, .text = "A name (RFC 7617)."},
                   {.name = "password", .type = OptionType::secret, .text = "The password for it."}}},
      {.name = "body",
       .type = OptionType::section,
       .text = "How events stand in a request. Texts hold `${event}`, `${count}`, `${field}` (JSON) and "
               "`${field:text}` (within a JSON string).",
       .section =
           {{.name = "form",
             .type = OptionType::choice,
             .fallback = "lines",
             .text = "`lines`: one JSON document a line; `array`: a JSON array; `template`: as the texts "
                     "below say.",
             .choices = {"lines", "array", "template"}},
            {.name = "before", .type = OptionType::text, .text = "Before each event; for `lines` a line."},
            {.name = "event", .type = OptionType::text, .text = "One event; `${event}` if missing."},
            {.name = "begin", .type = OptionType::text, .text = "Before all events."},
            {.name = "between", .type = OptionType::text, .text = "Between two events."},
            {.name = "end", .type = OptionType::text, .text = "Behind all events."}}},
      {.name = "content_type",
       .type = OptionType::text,
       .text = "`application/x-ndjson` for lines, else `application/json`, if missing."},
      {.name = "compression",
       .type = OptionType::choice,
       .fallback = "none",
       .text = "Of the body.",
       .choices = {"none", "gzip", "zstd"}},
      {.name = "group_by",
       .type = OptionType::fields,
       .text = "Events with different values of these fields go in different requests."},
      {.name = "requests",
       .type = OptionType::integer,
       .fallback = "1",
       .text = "Requests in flight.",
       .least = 1,
       .most = static_cast<std::int64_t>(kLanes)},
      {.name = "order",
       .type = OptionType::choice,
       .fallback = "stream",
       .text = "With several requests in flight: whether the order within a file or connection stays "
               "(`stream`), or "
               "does not matter there (`none`).",
       .choices = {"stream", "none"}},
      {.name = "timeout",
       .type = OptionType::duration,
       .fallback = "30s",
       .text = "How long an answer may take.",
       .least = 1000000},
      {.name = "answer",
       .type = OptionType::section,
       .text = "What answers mean. 2xx is accepted; 400, 413 and 422 are refused (what is to blame is set "
               "aside); all others are tried again.",
       .section =
           {{.name = "each",
             .type = OptionType::text,
             .text = "JSON pointer to a list with one item for each event, in order."},
            {.name = "code",
             .type = OptionType::text,
             .text = "Pointer within an item to its code, as of an answer; `*` stands for any one key. "
                     "Needed with `each`."},
            {.name = "why",
             .type = OptionType::text,
             .text = "Pointer within an item to the reason. Needed with `each`."},
            {.name = "message",
             .type = OptionType::text,
             .text = "Pointer to the reason in an answer that refuses all."},
            {.name = "accept_on", .type = OptionType::integers, .text = "Further codes that are accepted."},
            {.name = "refuse_on",
             .type = OptionType::integers,
             .text = "Codes that are refused, in place of 400, 413 and 422."}}},
      tls_option(),
      rendering_option()}},
    true,
    [](const Checking& c) -> std::shared_ptr<const Namer> {
      const Options& options = c.options;
      Findings& findings = c.findings;
      read_settings(options, &findings);
      check_rendering(options.section("events"), findings);
      return nullptr;
    },
    [](const DestinationMaking& m) -> std::unique_ptr<Destination> {
      const Options& o = m.settings.options;
      auto bearer = read_secret(o.section("auth"), "bearer"),
           password = read_secret(o.section("auth"), "password");
      Settings settings = read_settings(o, nullptr);
      if (bearer) settings.target.bearer = *bearer;
      if (password) settings.target.password = *password;
      std::string problem = !bearer ? bearer.problem().message : !password ? password.problem().message : "";
      return std::make_unique<Http>(std::move(settings), Rendering(o.section("events")), std::move(problem));
    }};
const DestinationRegistration http_destination(kHttpDestination);

}  // namespace
}  // namespace dingle

#include "agent/destinations/remote_index.h"

#include <fmt/format.h>

#include <atomic>

#include "agent/destinations/compression.h"
#include "agent/destinations/field_choice.h"
#include "agent/destinations/http_call.h"
#include "agent/json.h"
#include "agent/secret.h"
#include "core/json_text.h"
#include "store/index_file.h"

namespace dingle {
namespace {

// One event as a line of the handover's NDJSON.
void append_line(const DeliveryEvent& d, std::string& out) {
  const SpooledEvent& e = d.event;
  out += fmt::format("{{\"index\":");
  append_json_string(out, e.name);
  out += fmt::format(
      ",\"epoch\":{},\"number\":{},\"ordinal\":{},\"stream\":{},\"position\":{},\"time\":{},\"observed\":{},"
      "\"body\":",
      d.number.epoch, d.number.number, e.ordinal, e.stream, e.position, e.timestamp, e.observed);
  append_json_string(out, e.body);
  if (e.branch != 0) out += fmt::format(",\"branch\":{}", e.branch);
  std::string types;
  std::string_view member = "fields", of_types = "types";
  char separator = '{';
  auto add = [&](std::string_view name, const Value& v) {
    if (v.absent()) return;
    if (separator == '{') ((out += ",\"") += member) += "\":";
    out += separator;
    separator = ',';
    append_json_string(out, name);
    out += ':';
    if (v.kind() == Kind::timestamp)
      out += std::to_string(v.as_integer());
    else
      v.append_json(out);
    if (v.kind() == Kind::text || v.kind() == Kind::integer || v.kind() == Kind::boolean) return;
    types += types.empty() ? "{" : ",";
    append_json_string(types, name);
    types += ":\"" + std::string(kind_name(v.kind())) + '"';
  };
  const auto end = [&] {
    if (separator == ',') out += '}';
    if (!types.empty()) ((out += ",\"") += of_types) += "\":" + types + "}";
    separator = '{';
    types.clear();
  };
  for (const Field& f : e.fields) add(field_name(f.name), f.value);
  end();
  member = "more", of_types = "more_types";
  for (const Field& f : e.resource) add(field_name(f.name), f.value);
  for (const FieldId id : {names::source, names::zone, names::pipeline, names::configuration, names::altered,
                           names::template_number})
    if (id != names::zone || e.zone != "UTC") add(field_name(id), e.get(id));
  end();
  out += "}\n";
}

class RemoteIndex final : public Destination {
 public:
  explicit RemoteIndex(const DestinationMaking& m) : choice_(m.settings.options.section("events")) {
    const Options& o = m.settings.options;
    url_ = o.text("at");
    while (url_.ends_with('/')) url_.pop_back();
    url_ += fmt::format("/v1/handover?spool={}&epoch={}&nonce={}&sender={}", m.spool.spool_id, m.spool.epoch,
                        m.spool.nonce, m.id);
    if (!o.text("into").empty()) url_ += "&destination=" + o.text("into");
    compression_ = compression_named(o.text("compression"));
    target_.timeout = std::chrono::milliseconds(o.number("timeout") / 1'000'000);
    read_tls(o.section("tls"), target_);
    auto token = read_secret(o, "token");
    if (token)
      target_.bearer = *token;
    else
      problem_ = token.problem().message;
  }
  void cancel() override { cancelled_ = true; }
  bool reads_ahead() const override { return true; }
  Housekeeping idle() override { return choice_.forget(), Housekeeping{}; }

  Delivery deliver(std::span<const DeliveryEvent> events) override {
    if (!problem_.empty()) return Delivery::retry(problem_);
    if (!known_) return ask();
    std::string body;
    for (const DeliveryEvent& e : choice_.of(events)) append_line(e, body);
    const HttpReply reply = post(body);
    if (reply.status == 200 && reply.error.empty()) {
      const Holding holding = held_of(reply);
      // What stands between may answer 200 by itself.
      if (holding.newest < events.back().number) return no_dingled();
      accepted_ = events.back().number;
      Delivery done;
      done.stored = holding.events;
      return done;
    }
    if (reply.status == 409) {
      known_ = false;
      return ask();
    }
    return failed(reply);
  }

 private:
  // The newest record that the store holds; nothing is delivered before that is known.
  Delivery ask() {
    accepted_ = {};
    const HttpReply reply = post("");
    if (!reply.error.empty() || reply.status != 200) return failed(reply);
    const Holding holding = held_of(reply);
    if (!holding.told) return no_dingled();
    Delivery connected = Delivery::retry("connected");
    connected.at_once = true;
    connected.held = accepted_ = holding.newest;
    connected.stored = holding.events;
    known_ = true;
    return connected;
  }

  // What an answer says that the store holds; `told`: it is an answer as a dingled gives it.
  struct Holding {
    bool told = false;
    LogNumber newest;
    std::optional<std::uint64_t> events;
  };
  static Holding held_of(const HttpReply& reply) {
    const Json json = parse_json(reply.body);
    const Json* held = member(json, "held");
    if (held == nullptr) return {};
    const auto epoch = member_number(*held, "epoch"), number = member_number(*held, "number");
    if (!epoch || !number) return {};
    return {true, {*epoch, *number}, member_number(*held, "events")};
  }

  std::string where() const { return url_.substr(0, url_.find("/v1/")); }
  Delivery no_dingled() const { return Delivery::retry(where() + ": the answer is not that of a dingled"); }

  HttpReply post(const std::string& body) {
    std::vector<std::string> headers{"Content-Type: application/x-ndjson"};
    const Compression compression = body.empty() ? Compression::none : compression_;
    if (compression != Compression::none)
      headers.push_back(std::string("Content-Encoding: ") + content_coding(compression));
    return connection_.call(
        target_, url_ + fmt::format("&after_epoch={}&after_number={}", accepted_.epoch, accepted_.number),
        headers, compress(compression, body), cancelled_);
  }

  Delivery failed(const HttpReply& reply) const {
    if (!reply.error.empty()) return Delivery::retry(where() + ": " + reply.error, reply.too_slow);
    const std::string message = member_text(parse_json(reply.body), "detail");
    Delivery d = Delivery::retry(
        fmt::format("{}: answered {}{}{}", where(), reply.status, message.empty() ? "" : ": ", message));
    if (reply.status == 413 || reply.status == 422)
      d.outcomes[0].form = Outcome::Form::refused, d.separable = true;
    if (reply.retry_after.count() > 0) d.retry_after = reply.retry_after;
    return d;
  }

  FieldChoice choice_;
  std::string url_, problem_;
  bool known_ = false;  // what the store holds
  LogNumber accepted_;  // the newest record of which it has something
  HttpTarget target_;
  Compression compression_;
  HttpConnection connection_;
  std::atomic<bool> cancelled_{false};
};

}  // namespace

std::vector<OptionSpec> remote_index_options() {
  return {{.name = "at",
           .type = OptionType::text,
           .text = "The URL of another dingled, into whose store the events go: https://logs.example:3464."},
          {.name = "into",
           .type = OptionType::text,
           .text = "With `at`: the destination there; its only one of the kind `index`, if missing."},
          {.name = "token",
           .type = OptionType::secret,
           .text = "With `at`: the token that `server.agents` there knows."},
          {.name = "compression",
           .type = OptionType::choice,
           .fallback = "zstd",
           .text = "With `at`: of the requests.",
           .choices = {"none", "gzip", "zstd"}},
          {.name = "timeout",
           .type = OptionType::duration,
           .fallback = "30s",
           .text = "With `at`: how long an answer may take.",
           .least = 1000000},
          tls_option()};
}

std::unique_ptr<Destination> make_remote_index(const DestinationMaking& m) {
  return std::make_unique<RemoteIndex>(m);
}

}  // namespace dingle

// The call that weighs stored events: bytes by field and by shape, what is there twice, and what nobody asks for.
#include <algorithm>
#include <map>
#include <unordered_map>

#include "core/bytes.h"
#include "core/draft/tokens.h"
#include "core/glob.h"
#include "core/json_text.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/json_answer.h"
#include "store/search.h"

namespace dingle {
namespace {

struct OfField {
  std::uint64_t events = 0, bytes = 0, in_body = 0;
  std::map<std::string, std::uint64_t>
      equal;  // other fields, and in how many events they have the same value
};
struct OfShape {
  std::uint64_t events = 0, bytes = 0;
  std::string example;
};

std::uint64_t bytes_of(const Value& v) { return v.is_textual() ? v.as_text().size() : 8; }

constexpr std::size_t kMostWeighedBytes = 64u << 20;  // of the events that are weighed

void write_event(const StoredEvent& event, std::string& to) {
  ByteWriter out(to);
  out.zigzag(event.timestamp);
  out.text(event.body);
  out.varint(event.fields.size());
  for (const Field& f : event.fields) {
    out.text(field_name(f.name));
    out.u8(static_cast<std::uint8_t>(f.value.kind()));
    if (f.value.is_textual()) out.text(f.value.as_text());
  }
}

// What the events come to, one after another.
struct Weighed {
  static constexpr std::size_t kMostShapes = 500, kMostFieldsCompared = 60;
  std::map<std::string, OfField> fields;
  std::unordered_map<std::string, OfShape> shapes;
  std::uint64_t events = 0, bytes = 0, body = 0, other_shapes = 0, other_bytes = 0;
  std::int64_t first = 0, last = 0;
  std::vector<std::int64_t> times;
  // How many come in a second: by the middle nine tenths, since single events may have far-off times.
  double a_second() {
    if (times.size() < 20) return 0;
    std::sort(times.begin(), times.end());
    const std::size_t edge = times.size() / 20;
    const double span = static_cast<double>(times[times.size() - 1 - edge] - times[edge]) / 1e9;
    return static_cast<double>(times.size() - 2 * edge) / std::max(span, 1.0);
  }

  void add(std::string_view written) {
    ByteReader in(written);
    NameDictionary names;
    std::vector<Field> own;
    StoredEvent event;
    event.timestamp = in.zigzag();
    event.body = in.text();
    for (std::uint64_t n = in.varint(); n != 0 && in.ok(); --n) {
      const FieldId name = names.id(in.text());
      const auto kind = static_cast<Kind>(in.u8());
      own.push_back({name, kind == Kind::text || kind >= Kind::ip ? Value::from_text(kind, in.text())
                                                                  : Value::integer(0)});
    }
    event.fields = own;
    add(event);
  }
  void add(const StoredEvent& event) {
    ++events;
    times.push_back(event.timestamp);
    first = events == 1 ? event.timestamp : std::min(first, event.timestamp);
    last = events == 1 ? event.timestamp : std::max(last, event.timestamp);
    std::uint64_t own = event.body.size();
    body += event.body.size();
    for (std::size_t i = 0; i < event.fields.size(); ++i) {
      const Field& f = event.fields[i];
      OfField& of = fields[std::string(field_name(f.name))];
      const std::uint64_t size = bytes_of(f.value);
      ++of.events;
      of.bytes += size;
      own += size;
      if (f.value.is_textual() && size >= 4)
        of.in_body += event.body.find(f.value.as_text()) != std::string_view::npos;
      if (event.fields.size() > kMostFieldsCompared || size < 4) continue;
      for (std::size_t k = 0; k < i; ++k)
        if (event.fields[k].value == f.value && f.value.is_textual())
          ++of.equal[std::string(field_name(event.fields[k].name))];
    }
    bytes += own;
    const std::string shape = shape_of(event.body, event.timestamp);
    auto it = shapes.find(shape);
    if (it == shapes.end()) {
      if (shapes.size() == kMostShapes) {
        ++other_shapes;
        other_bytes += own;
        return;
      }
      it = shapes.emplace(shape, OfShape{0, 0, std::string(event.body.substr(0, 300))}).first;
    }
    ++it->second.events;
    it->second.bytes += own;
  }
};

// Of the indexes that the question is about: what their events take, and in how much time. A write-ahead file is as large for few
// events as for many, and does not count.
struct Stored {
  std::uint64_t bytes = 0, events = 0;
  std::int64_t first = 0, last = 0;
};
Stored stored_in(const std::vector<std::shared_ptr<Store>>& stores, const Query& query) {
  Stored all;
  bool any = false;
  for (const auto& store : stores)
    for (const IndexInfo& info : store->indexes()) {
      const bool asked = query.indexes.empty() ||
                         std::any_of(query.indexes.begin(), query.indexes.end(),
                                     [&](const std::string& glob) { return matches_glob(info.name, glob); });
      if (!asked || info.events == 0) continue;
      all.bytes += info.content;
      all.events += info.events;
      all.first = any ? std::min(all.first, info.first) : info.first;
      all.last = any ? std::max(all.last, info.last) : info.last;
      any = true;
    }
  return all;
}

HttpAnswer weigh(Api& api, const Asked& asked) {
  const std::string& destination = asked.text("destination");
  const auto stores = api.engine().stores(destination);
  std::vector<const Store*> open;
  for (const auto& s : stores) open.push_back(s.get());
  const Query query = asked.query();
  Weighed w;
  Scanned scanned;
  // Which events are the newest is known at the end.
  const std::function<void(const StoredEvent&, std::string&)> write = write_event;
  for (const FoundEvent& found :
       find_events(open, query, asked.number("limit"), write, scanned, kMostWeighedBytes))
    w.add(std::string_view(found.json));
  const Stored stored = stored_in(stores, query);
  const double weighed = static_cast<double>(std::max<std::uint64_t>(w.bytes, 1));
  const double per_event =
      stored.events == 0 ? 0 : static_cast<double>(stored.bytes) / static_cast<double>(stored.events);
  // Of those that were weighed: how fast they come, and what they take on disk.
  const double a_day = per_event * w.a_second() * 86400;
  const auto share_of_day = [&](std::uint64_t bytes) { return a_day * static_cast<double>(bytes) / weighed; };
  Json fields = Json::array();
  std::vector<std::pair<std::string, const OfField*>> sorted;
  for (const auto& [name, of] : w.fields) sorted.emplace_back(name, &of);
  std::sort(sorted.begin(), sorted.end(),
            [](const auto& a, const auto& b) { return a.second->bytes > b.second->bytes; });
  if (w.events != 0)
    fields.push_back({{"field", "body"},
                      {"events", w.events},
                      {"bytes", w.body},
                      {"bytes_a_day", share_of_day(w.body)},
                      {"last_asked", api.asked_fields().last("body") == 0
                                         ? Json(nullptr)
                                         : Json(format_rfc3339(api.asked_fields().last("body")))}});
  double saved = 0;
  Json omit = Json::array();
  for (const auto& [name, of] : sorted) {
    Json one{{"field", valid_utf8(name)},
             {"events", of->events},
             {"bytes", of->bytes},
             {"bytes_a_day", share_of_day(of->bytes)}};
    const std::int64_t last = api.asked_fields().last(name);
    one["last_asked"] = last == 0 ? Json(nullptr) : Json(format_rfc3339(last));
    const auto nearly_all = [all = of->events](std::uint64_t n) { return n * 100 >= all * 99; };
    std::string same;
    for (const auto& [other, n] : of->equal)
      if (nearly_all(n)) same = other;
    if (!same.empty()) one["same_as"] = valid_utf8(same);
    const bool in_body = of->events != 0 && nearly_all(of->in_body);
    if (in_body) one["in_body"] = true;
    const bool own = !name.starts_with("dingle.") && name != "severity" && name != "severity_number" &&
                     name != "trace_id" && name != "span_id";
    if (own && (!same.empty() || (in_body && last == 0 && of->bytes * 50 >= w.bytes))) {
      omit.push_back(valid_utf8(name));
      saved += share_of_day(of->bytes);
    }
    fields.push_back(std::move(one));
    if (fields.size() == 500) break;
  }
  std::vector<std::pair<std::string, const OfShape*>> by_bytes;
  for (const auto& [shape, of] : w.shapes) by_bytes.emplace_back(shape, &of);
  std::sort(by_bytes.begin(), by_bytes.end(), [](const auto& a, const auto& b) {
    return a.second->bytes != b.second->bytes ? a.second->bytes > b.second->bytes : a.first < b.first;
  });
  Json shapes = Json::array();
  for (std::size_t i = 0; i < std::min<std::size_t>(by_bytes.size(), asked.number("shapes")); ++i)
    shapes.push_back({{"shape", valid_utf8(by_bytes[i].first)},
                      {"events", by_bytes[i].second->events},
                      {"bytes", by_bytes[i].second->bytes},
                      {"bytes_a_day", share_of_day(by_bytes[i].second->bytes)},
                      {"example", valid_utf8(by_bytes[i].second->example)}});
  Json root{{"events", w.events},
            {"bytes", w.bytes},
            {"stored_events", stored.events},
            {"stored_bytes", stored.bytes},
            {"bytes_a_day", a_day},
            {"fields", fields},
            {"shapes", shapes},
            {"shapes_known", w.shapes.size()},
            {"omit", omit},
            {"saved_a_day", saved},
            {"asked_since", format_rfc3339(api.started())},
            {"complete", scanned.complete()}};
  if (w.events != 0) root["from"] = format_rfc3339(w.first), root["to"] = format_rfc3339(w.last);
  return json_answer(root);
}

const CallRegistration kWeigh(
    {.method = "GET",
     .path = "/v1/weigh",
     .name = "weighEvents",
     .text = "What stored events are made of: bytes by field and by shape, of the newest that satisfy a "
             "condition, and scaled to what "
             "is stored a day. Says which fields are there twice, and which no question named since "
             "`asked_since`.",
     .parameters =
         [] {
           std::vector<OptionSpec> all = query_options();
           all.push_back({.name = "limit",
                          .type = OptionType::integer,
                          .fallback = "10000",
                          .text = "How many events are weighed.",
                          .least = 1,
                          .most = 100'000});
           all.push_back({.name = "shapes",
                          .type = OptionType::integer,
                          .fallback = "10",
                          .text = "How many shapes are told.",
                          .most = 500});
           return all;
         }(),
     .run = weigh,
     .example =
         R"({"events":2000,"bytes":412000,"stored_events":2000,"stored_bytes":180000,"bytes_a_day":7776000,"from":
       "2026-11-23T10:00:00Z","to":"2026-11-23T10:33:20Z","fields":[{"field":"user_agent.original","events":2000,"bytes":120000,
       "bytes_a_day":2264854,"last_asked":null,"in_body":true}],"shapes":[],"shapes_known":3,"omit":["user_agent.original"],
       "saved_a_day":2264854,"asked_since":"2026-11-23T09:00:00Z","complete":true})",
     .answer =
         [] {
           const Json field = object_of({{"field", is_text()},
                                         {"events", is_integer()},
                                         {"bytes", is_integer()},
                                         {"bytes_a_day", is_number()},
                                         {"last_asked", or_null(is_moment())},
                                         {"same_as", is_text(), false},
                                         {"in_body", is_boolean(), false}});
           const Json shape = object_of({{"shape", is_text()},
                                         {"events", is_integer()},
                                         {"bytes", is_integer()},
                                         {"bytes_a_day", is_number()},
                                         {"example", is_text()}});
           return object_of({{"events", is_integer()},
                             {"bytes", is_integer()},
                             {"stored_events", is_integer()},
                             {"stored_bytes", is_integer()},
                             {"bytes_a_day", is_number()},
                             {"from", is_moment(), false},
                             {"to", is_moment(), false},
                             {"fields", list_of(field)},
                             {"shapes", list_of(shape)},
                             {"shapes_known", is_integer()},
                             {"omit", list_of(is_text())},
                             {"saved_a_day", is_number()},
                             {"asked_since", is_moment()},
                             {"complete", is_boolean()}});
         },
     .is_long = true,
     .asks_stores = true});

}  // namespace
}  // namespace dingle

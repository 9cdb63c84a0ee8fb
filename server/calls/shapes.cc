// The call that counts stored events by the shape of their text, now and before.
#include "core/draft/shapes.h"

#include <algorithm>
#include <deque>

#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/asking.h"
#include "server/json_answer.h"
#include "store/scan.h"

namespace dingle {
namespace {

constexpr std::int64_t kFirst = std::numeric_limits<std::int64_t>::min();
constexpr std::int64_t kLast = std::numeric_limits<std::int64_t>::max();

// How often a shape came, over two periods of different lengths.
const char* state_of(const CountedShape& s, double now, double before) {
  if (s.count[1] == 0) return "new";
  if (s.count[0] == 0) return "gone";
  const double rate = static_cast<double>(s.count[0]) / now, was = static_cast<double>(s.count[1]) / before;
  return rate >= 2 * was ? "more" : rate <= was / 2 ? "less" : "same";
}

int rank_of(std::string_view state) { return state == "new" ? 0 : state == "gone" ? 1 : 2; }

struct Periods {
  std::int64_t from = kFirst, to = kLast, against = kFirst;
  bool compares = false;
};

Periods periods_of(const Asked& asked) {
  const std::int64_t now = system_now();
  Periods p;
  p.from = asked.moment("from", kFirst);
  p.to = asked.moment("to", kLast);
  p.compares = asked.given("against");
  if (!p.compares) return p;
  if (!asked.given("from")) p.from = now - 3600 * kSecond;
  if (p.to == kLast) p.to = std::max(now, p.from + kSecond);
  const std::string& text = asked.text("against");
  const auto length = parse_duration(text);
  const auto since = length ? std::optional<std::int64_t>() : parse_moment(text, now);
  if (!length && !since)
    throw Refused{api_error(400, "`" + text + "` is neither a length nor a time",
                            "how long before `from` (1d, 6h), or since when (2026-11-22T00:00:00Z)",
                            "against")};
  if (length && __builtin_sub_overflow(p.from, *length, &p.against)) p.against = kFirst;
  if (since) p.against = *since;
  if (p.against >= p.from)
    throw Refused{api_error(400, "`against` begins when the time that is looked at does, or later",
                            "name a time before " + format_rfc3339(p.from), "against")};
  return p;
}

HttpAnswer list_shapes(Api& api, const Asked& asked) {
  const OpenStores held = stores(api, asked);
  const Periods p = periods_of(asked);
  Query query = asked.query();
  query.from = p.compares ? p.against : p.from;
  query.to = p.to;
  const FieldId field =
      asked.given("of") && asked.text("of") != "body" ? field_id(asked.text("of")) : kNoField;
  std::vector<FieldId> named = query.where.fields();
  if (field != kNoField) named.push_back(field);
  api.asked_fields().note(named, system_now());
  Scanned scanned;
  std::deque<ShapeCount> counts;
  scan_in_parallel(held.stores, query, scanned, kScanThreads, [&]() -> Visitor {
    ShapeCount& count = counts.emplace_back();
    return {.event = [&](Block& block, std::size_t row) {
      const Value value = field == kNoField ? Value::text(block.body(row)) : block.get(field);
      if (!value.is_textual()) return;
      const std::int64_t at = block.timestamp(row);
      count.add(value.as_text(), at, p.compares && at < p.from ? 1 : 0);
    }};
  });
  if (counts.empty()) counts.emplace_back();
  for (std::size_t i = 1; i < counts.size(); ++i) counts[0].take(std::move(counts[i]));
  std::vector<CountedShape> shapes = counts[0].shapes();
  const double now = static_cast<double>(p.to) - static_cast<double>(p.from),
               before = static_cast<double>(p.from) - static_cast<double>(p.against);
  const auto state = [&](const CountedShape& s) { return p.compares ? state_of(s, now, before) : ""; };
  if (p.compares)
    std::stable_sort(shapes.begin(), shapes.end(), [&](const CountedShape& a, const CountedShape& b) {
      return rank_of(state(a)) < rank_of(state(b));
    });
  AnswerList list;
  std::size_t told = 0;
  for (const CountedShape& s : shapes) {
    const std::string& example = s.count[0] != 0 ? s.example[0] : s.example[1];
    if (told == asked.number("limit") || !list.room(300 + s.shape.size() + example.size())) break;
    ++told;
    Json one{{"shape", valid_utf8(s.shape)}, {"events", s.count[0]}, {"example", valid_utf8(example)}};
    if (p.compares) one["before"] = s.count[1], one["state"] = state(s);
    list.add(std::move(one));
  }
  Json root =
      list.with_cut({{"shapes", list.take()}, {"known", shapes.size()}, {"others", counts[0].others()[0]}});
  if (p.compares) {
    root["others_before"] = counts[0].others()[1];
    root["from"] = format_rfc3339(p.from);
    root["to"] = format_rfc3339(p.to);
    root["against"] = p.against == kFirst ? Json(nullptr) : Json(format_rfc3339(p.against));
  }
  Json read = scanned_json(scanned);
  if (shapes.empty()) explain(read, held, query, named);
  root["scanned"] = std::move(read);
  return json_answer(root);
}

const CallRegistration kShapes(
    {.method = "GET",
     .path = "/v1/shapes",
     .name = "listShapes",
     .text = "Stored events by the shape of their text: lines that differ only in values have one. With "
             "`against` also how many there "
             "were before, and which are new or gone (those first); `more` and `less`: twice or half as many "
             "in the same time.",
     .parameters = with_query({{.name = "against",
                                .text = "The time to compare with: how long before `from` (1d), or since "
                                        "when (RFC 3339), up to `from`. "
                                        "`from` is an hour ago then, if it is missing."},
                               {.name = "of",
                                .type = OptionType::field,
                                .fallback = "body",
                                .text = "The text that is looked at."},
                               {.name = "limit",
                                .type = OptionType::integer,
                                .fallback = "100",
                                .text = "At most so many shapes.",
                                .most = 10'000}}),
     .run = list_shapes,
     .example =
         R"json({"shapes":[{"shape":"{ship}: fog at berth {int}","events":12,"before":0,"state":"new","example":"Tern: fog at berth 4"}],
       "known":31,"others":0,"others_before":0,"from":"2026-11-23T10:00:00Z","to":"2026-11-23T11:00:00Z","against":"2026-11-22T10:00:00Z",
       "scanned":{"matched":9000,"events_read":9000,"blocks":4,"blocks_left_out":0,"indexes":2,"complete":true}})json",
     .answer =
         [] {
           const Json shape =
               object_of({{"shape", is_text()},
                          {"events", is_integer()},
                          {"before", is_integer(), false},
                          {"state", {{"enum", {"new", "gone", "more", "less", "same"}}}, false},
                          {"example", is_text()}});
           return object_of({{"shapes", list_of(shape)},
                             {"known", is_integer()},
                             {"others", is_integer()},
                             {"others_before", is_integer(), false},
                             {"from", is_text(), false},
                             {"to", is_text(), false},
                             {"against", {{"type", {"string", "null"}}}, false},
                             cut_at_bytes(),
                             {"scanned", scanned_schema()}});
         },
     .is_long = true,
     .asks_stores = true});

}  // namespace
}  // namespace dingle

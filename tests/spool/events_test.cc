#include "spool/events.h"

#include <gtest/gtest.h>

#include <random>

namespace dingle {
namespace {

struct Made {
  Batch batch;
  std::string text = "192.0.2.7 GET /gate";
  std::vector<Section> sections;
  std::vector<Field> resource{{field_id("service.name"), Value::text("gate")}};
  std::string bytes;
  Made() {
    for (int i = 0; i < 3; ++i) {
      Event e;
      e.body = text;
      e.position = static_cast<std::uint64_t>(i) * 20;
      e.observed = 1000;
      e.timestamp = i == 0 ? INT64_MIN : 1000 - i;
      e.template_number = 2;
      e.set(batch.arena, field_id("ip"), Value::ip(std::string_view(text).substr(0, 9)));
      e.set(batch.arena, field_id("n"), Value::integer(-i));
      e.set(batch.arena, field_id("d"), Value::decimal(0.5));
      e.set(batch.arena, field_id("b"), Value::boolean(true));
      e.set(batch.arena, field_id("other"), Value::text("elsewhere"));
      e.set(batch.arena, field_id("at"), Value::timestamp(7));
      batch.events.push_back(e);
    }
    Section first{1, "p1", "c1", {{4, {"gate-1", "gate-2"}, {0, 1, 0}}, {5, {}, {}}}, &batch};
    Section second{2, "p2", "c1", {{5, {}, {}}}, &batch};
    sections = {first, second};
    bytes = encode_events("files", 99, resource, sections);
  }
};

TEST(Events, ComeBackForTheirDestination) {
  Made made;
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  ASSERT_TRUE(decoder.decode(made.bytes, 4, events));
  ASSERT_EQ(events.size(), 3u);
  EXPECT_EQ(events[1].name, "gate-2");
  EXPECT_EQ(events[1].timestamp, 999);
  EXPECT_EQ(events[0].timestamp, INT64_MIN);
  EXPECT_EQ(events[2].ordinal, 2u);
  EXPECT_EQ(events[2].stream, 99u);
  EXPECT_EQ(events[2].position, 40u);
  EXPECT_EQ(events[1].get(field_id("ip")).to_string(), "192.0.2.7");
  EXPECT_EQ(events[1].get(field_id("ip")).kind(), Kind::ip);
  EXPECT_EQ(events[1].get(field_id("n")), Value::integer(-1));
  EXPECT_EQ(events[1].get(field_id("other")).to_string(), "elsewhere");
  EXPECT_EQ(events[1].get(field_id("service.name")).to_string(), "gate");
  EXPECT_EQ(events[1].get(names::pipeline).to_string(), "p1");
  events.clear();
  ASSERT_TRUE(decoder.decode(made.bytes, 5, events));
  ASSERT_EQ(events.size(), 6u);
  EXPECT_EQ(events[3].ordinal, 3u);
  EXPECT_EQ(events[3].pipeline, "p2");
}

TEST(Events, DamagedBytesNeverCrash) {
  Made made;
  std::mt19937_64 random(5);
  for (int i = 0; i < 5000; ++i) {
    std::string bytes = made.bytes;
    for (unsigned k = 0; k < 1 + random() % 3; ++k)
      bytes[random() % bytes.size()] = static_cast<char>(random());
    bytes.resize(random() % (bytes.size() + 1));
    EventDecoder decoder;
    std::vector<SpooledEvent> events;
    decoder.decode(bytes, static_cast<std::uint32_t>(random() % 6), events);
    std::string json;
    for (const SpooledEvent& e : events) append_event_json(e, json);
  }
}

}  // namespace
}  // namespace dingle

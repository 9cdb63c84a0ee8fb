#include "spool/events.h"

#include <gtest/gtest.h>

#include <random>

#include "core/bytes.h"

namespace dingle {
namespace {

struct Made {
  Batch batch;
  std::string text = "192.0.2.7 GET /gate";
  std::vector<Section> sections;
  std::vector<Field> resource{{field_id("service.name"), Value::text("gate")}},
      other{{field_id("service.name"), Value::text("tide")}};
  std::vector<Slice> slices{{99, "files", "UTC", resource}, {7, "files", "Europe/Stockholm", other}};
  EncodedEvents encoded;
  std::string bytes;
  Made() {
    for (int i = 0; i < 3; ++i) {
      Event e;
      e.body = text;
      e.position = static_cast<std::uint64_t>(i) * 20;
      e.observed = 1000;
      e.timestamp = i == 0 ? INT64_MIN : 1000 - i;
      e.template_number = 2;
      e.slice = i == 1;
      e.branch = static_cast<std::uint32_t>(3 * i);
      e.set(batch.arena, field_id("ip"), Value::ip(std::string_view(text).substr(0, 9)));
      e.set(batch.arena, field_id("n"), Value::integer(-i));
      e.set(batch.arena, field_id("d"), Value::decimal(0.5));
      e.set(batch.arena, field_id("b"), Value::boolean(true));
      e.set(batch.arena, field_id("other"), Value::text("elsewhere"));
      e.set(batch.arena, field_id("at"), Value::timestamp(7));
      batch.events.push_back(e);
    }
    Section first{1, "p1", "c1", {{4, {"gate-1", "gate-2"}, {0, 1, 0}}, {5, {}, {}}}, &batch};
    Section second{2,
                   "p2",
                   "c2",
                   {{5, {}, {}},
                    {6, {"x"}, {0, 0, 0}, {false, true, false}},
                    {4, {"gate-3"}, {0, 0, 0}, {true, false, true}}},
                   &batch};
    Section third{3, "p3", "c1", {{6, {}, {}, {false, false, false}}}, &batch};
    sections = {first, second, third};
    encoded = encode_events(slices, sections);
    bytes = encoded.bytes;
  }
  // "pipeline:position:name" of the events for a destination.
  std::vector<std::string> of(std::uint32_t destination) {
    EventDecoder decoder;
    std::vector<SpooledEvent> events;
    EXPECT_TRUE(decoder.decode(bytes, destination, events));
    std::vector<std::string> out;
    for (const SpooledEvent& e : events)
      out.push_back(std::string(e.pipeline) + ":" + std::to_string(e.position) + ":" + std::string(e.name));
    return out;
  }
};

// What the encoder counts is what comes back, and the bytes are those of the events.
TEST(Events, AreCountedAsTheyAreWritten) {
  Made made;
  using Counts = std::vector<std::pair<std::uint32_t, std::uint32_t>>;
  EXPECT_EQ(made.encoded.destinations, (Counts{{4, 5}, {5, 6}, {6, 1}}));
  for (std::size_t i = 0; i < 3; ++i) {
    const auto [destination, n] = made.encoded.destinations[i];
    EventDecoder decoder;
    std::vector<SpooledEvent> events;
    ASSERT_TRUE(decoder.decode(made.bytes, destination, events));
    EXPECT_EQ(events.size(), n);
    std::uint64_t bytes = 0;
    for (const SpooledEvent& e : events) bytes += e.bytes;
    EXPECT_EQ(made.encoded.bytes_for[i], bytes);
    EXPECT_GT(bytes, 0u);
  }
  ASSERT_EQ(made.encoded.section_bytes.size(), 3u);
  EXPECT_GT(made.encoded.section_bytes[0], 3 * std::string_view(made.text).size());
  EXPECT_EQ(made.encoded.section_bytes[2], 0u);
  EXPECT_LT(made.encoded.section_bytes[0] + made.encoded.section_bytes[1], made.bytes.size());
}

TEST(Events, ComeBackForTheirDestination) {
  Made made;
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  ASSERT_TRUE(decoder.decode(made.bytes, 4, events));
  ASSERT_EQ(events.size(), 5u);
  EXPECT_EQ(events[1].name, "gate-2");
  EXPECT_EQ(events[1].timestamp, 999);
  EXPECT_EQ(events[0].timestamp, INT64_MIN);
  EXPECT_EQ(events[2].ordinal, 2u);
  EXPECT_EQ(events[2].stream, 99u);
  EXPECT_EQ(events[2].position, 40u);
  EXPECT_EQ(events[2].branch, 6u);
  EXPECT_EQ(events[1].stream, 7u);
  EXPECT_EQ(events[1].zone, "Europe/Stockholm");
  EXPECT_EQ(events[1].get(field_id("service.name")).to_string(), "tide");
  EXPECT_EQ(events[1].get(field_id("ip")).to_string(), "192.0.2.7");
  EXPECT_EQ(events[1].get(field_id("ip")).kind(), Kind::ip);
  EXPECT_EQ(events[1].get(field_id("n")), Value::integer(-1));
  EXPECT_EQ(events[1].get(field_id("other")).to_string(), "elsewhere");
  EXPECT_EQ(events[0].get(field_id("service.name")).to_string(), "gate");
  EXPECT_EQ(events[1].get(names::pipeline).to_string(), "p1");
  EXPECT_EQ(events[4].get(names::configuration).to_string(), "c2");
  EXPECT_EQ(events[4].name, "gate-3");
}

TEST(Events, GoToTheDestinationsThatTakeThem) {
  Made made;
  using Texts = std::vector<std::string>;
  EXPECT_EQ(made.of(4),
            (Texts{"p1:0:gate-1", "p1:20:gate-2", "p1:40:gate-1", "p2:0:gate-3", "p2:40:gate-3"}));
  EXPECT_EQ(made.of(5), (Texts{"p1:0:", "p1:20:", "p1:40:", "p2:0:", "p2:20:", "p2:40:"}));
  EXPECT_EQ(made.of(6), (Texts{"p2:20:x"})) << "what none takes is not there";
  EXPECT_EQ(made.of(0).size(), 6u);
  EXPECT_EQ(made.of(7).size(), 0u);
}

TEST(Events, KnowWhetherAnotherHidesTheirLine) {
  Batch batch;
  for (const char* body : {"a", "b"}) batch.events.emplace_back().body = body;
  Section section{1, "p", "c", {{4, {}, {}}, {5, {}, {}, {false, true}}}, &batch, {false, true}};
  const Slice slice{1, "s", "UTC", {}};
  const EncodedEvents encoded = encode_events({&slice, 1}, {section});
  EXPECT_EQ(encoded.destinations, (std::vector<std::pair<std::uint32_t, std::uint32_t>>{{4, 2}, {5, 1}}));
  EventDecoder decoder;
  std::vector<SpooledEvent> events, one;
  ASSERT_TRUE(decoder.decode(encoded.bytes, 4, events));
  ASSERT_EQ(events.size(), 2u);
  EXPECT_FALSE(events[0].hidden_elsewhere);
  EXPECT_TRUE(events[1].hidden_elsewhere);
  ASSERT_TRUE(decoder.decode(encode_event(events[1], 4), 4, one));
  EXPECT_TRUE(one.at(0).hidden_elsewhere);
}

TEST(Events, KnowWhetherTheyAreAlteredAndWhatTheyReplace) {
  Batch batch;
  for (const char* body : {"a", "b", "c"}) batch.events.emplace_back().body = body;
  const Replaced one{"gate-2026-11-23", -5, 7, 1, 300, 2}, two{"gate-2026-11-24", 900, 8, 2, 1, 0};
  const Section section{1,
                        "p",
                        "c",
                        {{4, {}, {}, {true, false, true}}, {5, {}, {}, {true, true, false}}},
                        &batch,
                        {},
                        {false, true, false},
                        {one, two, one}};
  const Slice slice{1, "s", "UTC", {}};
  const std::string bytes = encode_events({&slice, 1}, {section}).bytes;
  EventDecoder decoder;
  std::vector<SpooledEvent> events, letter;
  ASSERT_TRUE(decoder.decode(bytes, 5, events));
  ASSERT_EQ(events.size(), 2u);
  EXPECT_FALSE(events[0].altered);
  EXPECT_TRUE(events[1].altered);
  ASSERT_TRUE(events[1].replaces);
  EXPECT_EQ(events[1].replaces->index, "gate-2026-11-24");
  EXPECT_EQ(events[1].replaces->epoch, 2u);
  ASSERT_TRUE(decoder.decode(bytes, 4, events));  // behind those that are there
  ASSERT_EQ(events.size(), 4u);
  EXPECT_EQ(events[3].replaces->timestamp, -5);
  EXPECT_EQ(events[3].replaces->number, 300u);
  EXPECT_EQ(events[1].replaces->spool, 8u);
  ASSERT_TRUE(decoder.decode(encode_event(events[1], 5), 5, letter));
  EXPECT_TRUE(letter.at(0).altered);
  EXPECT_FALSE(letter.at(0).replaces);
  for (std::size_t n = 0; n < bytes.size(); ++n) {
    events.clear();
    EXPECT_FALSE(EventDecoder().decode(bytes.substr(0, n), 4, events)) << n;
  }
}

TEST(Events, ALetterHoldsOneAloneAsItWas) {
  Made made;
  EventDecoder decoder, again;
  std::vector<SpooledEvent> events, one;
  ASSERT_TRUE(decoder.decode(made.bytes, 4, events));
  const std::string bytes = encode_event(events[1], 4);
  ASSERT_TRUE(again.decode(bytes, 4, one));
  ASSERT_EQ(one.size(), 1u);
  EXPECT_EQ(one[0].name, "gate-2");
  EXPECT_EQ(one[0].zone, "Europe/Stockholm");
  EXPECT_EQ(event_id(one[0]).view(), event_id(events[1]).view());
  std::string a, b;
  append_event_json(events[1], a);
  append_event_json(one[0], b);
  EXPECT_EQ(a, b);
}

// Dead letters of before there were slices.
TEST(Events, OfTheFormerFormatAreRead) {
  const FieldId n = field_id("n"),
                service = field_id("service.name");  // as a configuration has them, before events are read
  std::string bytes;
  ByteWriter w(bytes);
  w.text("gate");
  w.u64(99);
  w.varint(2);
  w.text("service.name");
  w.text("n");
  w.varint(1);  // the resource
  w.varint(0 << 4 | static_cast<unsigned>(Kind::text));
  w.varint(4 << 1);
  w.raw("tern");
  w.varint(1);  // sections
  w.varint(3);
  w.text("p");
  w.text("c");
  w.varint(1);
  w.varint(4);
  w.varint(1);
  w.text("gate-1");
  w.varint(1);  // events
  w.varint(20);
  w.varint(0);
  w.varint(2);
  w.zigzag(-1);
  w.zigzag(1000);
  w.text("the line");
  w.varint(1);
  w.varint(1 << 4 | static_cast<unsigned>(Kind::integer));
  w.zigzag(5);
  w.varint(0);
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  ASSERT_TRUE(decoder.decode(bytes, 4, events));
  ASSERT_EQ(events.size(), 1u);
  EXPECT_EQ(events[0].body, "the line");
  EXPECT_EQ(events[0].name, "gate-1");
  EXPECT_EQ(events[0].timestamp, 999);
  EXPECT_EQ(events[0].get(n), Value::integer(5));
  EXPECT_EQ(events[0].get(service).to_string(), "tern");
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

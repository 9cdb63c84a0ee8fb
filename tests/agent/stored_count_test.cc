// What a destination stored, by its own count, against what it answered.
#include <fstream>

#include "tests/agent/delivery_fixture.h"

namespace dingle {
namespace {

class StoredCountTest : public DeliveryThreadTest {
 protected:
  std::uint64_t stored = 0;  // the destination's count
  LogNumber held;            // and the newest record of which it has something
  bool tells = true;
  std::int64_t counter(const char* what) { return spool->counter(counter_of_destination(id, what)); }
  // By how much the balance does not agree.
  std::int64_t off() { return counter("stored") - counter("answered") - counter("apart"); }

  // Connects first, as those that can tell do, then takes what comes; `wrong` events more than those.
  void deliver(int wrong = 0) {
    bool connects = true;
    run_until_done([&, wrong](std::span<const DeliveryEvent> events) {
      Delivery d;
      if (std::exchange(connects, false)) {
        d = Delivery::retry("connected");
        d.at_once = true;
        d.held = held;
      } else {
        stored += events.size() + static_cast<std::uint64_t>(wrong);
        held = {events.back().number.epoch, events.back().number.number};
      }
      if (tells) d.stored = stored;
      return d;
    });
  }
  // Destroys these bytes in the spool's files.
  void damage(const std::string& text) const {
    for (const auto& entry : std::filesystem::directory_iterator(folder + "/spool")) {
      std::fstream file(entry.path(), std::ios::in | std::ios::out | std::ios::binary);
      const std::string bytes{std::istreambuf_iterator<char>(file), {}};
      if (const std::size_t at = bytes.find(text); at != std::string::npos)
        file.seekp(static_cast<std::streamoff>(at)), file.put('?');
    }
  }
  bool told(const std::string& what) {
    const auto all = problems.all();
    return std::any_of(all.begin(), all.end(),
                       [&](const auto& p) { return p.about == "destination d: " + what; });
  }
};

TEST_F(StoredCountTest, AgreesAsLongAsNothingIsLostOrDoubled) {
  for (int start = 0; start < 3; ++start) {
    append({"a", "b", "c"});
    deliver();
    EXPECT_EQ(off(), 0);
  }
  EXPECT_EQ(counter("stored"), 9);
  EXPECT_EQ(counter("apart"), 0);
}

TEST_F(StoredCountTest, TellsALossAndADoublingForEver) {
  for (const int wrong : {1, -1}) {
    append({"a", "b"});
    deliver(wrong);
    EXPECT_EQ(off(), wrong);
    append({"c"});
    deliver(-wrong);
    EXPECT_EQ(off(), 0) << "only another fault";
  }
}

// It took a batch and the program ended before it knew: what it has already is not counted there again.
TEST_F(StoredCountTest, AgreesOverAnEndInTheMiddle) {
  append({"a", "b"});
  deliver();
  append({"c"});
  stored += 1;
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent>) {
    Delivery d = std::exchange(connects, false) ? Delivery::retry("connected") : Delivery{};
    d.at_once = true;
    d.stored = stored;
    if (!connects) d.held = held;
    return d;
  });
  EXPECT_EQ(counter("answered"), 3);
  EXPECT_EQ(off(), 0);
}

TEST_F(StoredCountTest, WhatAFlushThatFailedTookBackIsNotCounted) {
  for (const char* body : {"a", "b", "c"}) append({body});
  give_up_after("6h", "1");
  int call = 0;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    if (++call == 2) {  // its server fell over, and lost the first, which was not durable
      stored = 0;
      return Delivery::retry("gone");
    }
    Delivery d;
    d.durable = call != 1;
    d.stored = stored += events.size();
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"a", "a", "b", "c"}));
  EXPECT_EQ(counter("stored"), 3);
  EXPECT_EQ(off(), 0);
}

TEST_F(StoredCountTest, WhatComesAgainIsCountedOnce) {
  append({"a", "b"});
  int call = 0;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d;
    d.durable = ++call != 1;
    if (call == 1) d.outcomes = {{}, {Outcome::Form::retry, "cut"}};
    d.counts.emplace_back("replaced", call == 1 ? 1 : events.size());
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"a", "a", "b"}));
  EXPECT_EQ(counter("replaced"), 2);
}

TEST_F(StoredCountTest, AnswersForWhatItHadOnceWhenItWasRestored) {
  append({"a", "b"});
  deliver();
  const LogNumber then = held;
  append({"c"});
  deliver();
  held = {then.epoch, then.number - 1}, stored = 0;  // and the spool does not have these any more
  append({"d"});
  deliver();
  EXPECT_TRUE(told("restored"));
  EXPECT_EQ(off(), 0);
  EXPECT_EQ(counter("answered"), 4);
  EXPECT_EQ(counter("answered") + counter("apart"), static_cast<std::int64_t>(stored));
  append({"e"});
  deliver(1);
  EXPECT_EQ(off(), 1) << "what comes afterwards is held against its count again";
}

// It took a record, which was damaged before the spool knew.
TEST_F(StoredCountTest, AnswersForWhatItTookOfADamagedRecord) {
  append({"a", "b"});
  deliver();
  for (const char* body : {"taken and damaged", "taken", "waits"}) {
    append({body});
    ASSERT_TRUE(spool->wait_durable(60s));
    if (body == std::string("waits")) continue;
    stored += 1;
    while (spool->has_more(id, held.number)) ++held.number;
  }
  spool.reset();
  damage("taken and damaged");
  open();
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    const bool first = std::exchange(connects, false);
    Delivery d = first ? Delivery::retry("connected") : Delivery{};
    d.at_once = true;
    if (first)
      d.held = held;
    else
      held = {events.back().number.epoch, events.back().number.number};
    for (const auto& e : events) stored += !first && e.event.body == "waits";
    d.stored = stored;
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"a", "b", "taken", "waits"}));
  EXPECT_EQ(stored, 5u);
  EXPECT_EQ(off(), 0);
  EXPECT_EQ(counter("apart"), 1);
  for (const char* body : {"e", "f"}) {  // the epoch of these is the new one
    append({body});
    deliver(*body == 'f');
  }
  EXPECT_EQ(off(), 1) << "what comes afterwards is held against its count again";
}

TEST_F(StoredCountTest, APartThatWasMovedAwayIsTold) {
  append({"a", "b", "c"});
  deliver();
  stored -= 2;
  append({"d"});
  deliver();
  EXPECT_TRUE(told("fewer"));
  EXPECT_EQ(off(), 0);
  EXPECT_EQ(counter("apart"), -2);
}

TEST_F(StoredCountTest, OneThatBeginsToCountIsHeldAgainstWhatComesThen) {
  tells = false;
  append({"a", "b"});
  deliver();
  EXPECT_EQ(counter("stored"), 0);
  tells = true, stored = 0;
  append({"c"});
  deliver();
  EXPECT_EQ(counter("stored"), 1);
  EXPECT_EQ(off(), 0);
}

}  // namespace
}  // namespace dingle

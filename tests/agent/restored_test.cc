// Destinations that lost what they had, and spools that did.
#include <algorithm>

#include "store/index_file.h"
#include "tests/agent/delivery_fixture.h"

namespace dingle {
namespace {

// A destination that holds the first of three records again, as if restored from a backup.
class RestoredTest : public DeliveryThreadTest {
 protected:
  LogNumber first, second, third;
  void SetUp() override {
    DeliveryThreadTest::SetUp();
    give_up_after("6h", "1");
    for (const char* body : {"1", "2", "3"}) append({body});
    run_until_done([&](std::span<const DeliveryEvent> events) {
      const std::string body(events[0].event.body);
      (body == "1"   ? first
       : body == "2" ? second
                     : third) = {events[0].number.epoch, events[0].number.number};
      return Delivery{};
    });
    accepted.clear();
    append({"4"});
  }
  Delivery connected() const {
    Delivery d = Delivery::retry("connected");
    d.at_once = true;
    d.held = first;
    return d;
  }
};

TEST_F(RestoredTest, IsSentAllThatItLostThoughTheConnectionIsLostMeanwhile) {
  int call = 0;
  run_until_done([&](std::span<const DeliveryEvent>) {
    ++call;
    if (call == 1) return connected();
    Delivery d = call == 3 ? Delivery::retry("cut") : Delivery{};
    d.durable = call != 2;
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"1", "1", "2", "3", "4"})) << "the first was not durable";
}

TEST_F(RestoredTest, ASpoolThatLacksWhatTheDestinationHasIsTold) {
  for (const std::uint64_t more : {0u, 2u}) {
    open();
    append({"5"});
    const LogNumber held{spool->identity().epoch - 1, spool->recovery().last_record + more};
    run_until_done([&](std::span<const DeliveryEvent>) {
      Delivery d;
      d.held = held;
      return d;
    });
    std::string told;
    for (const auto& p : problems.all()) told += p.about + ": " + p.text;
    EXPECT_EQ(told.find("ahead: the destination has the records") != std::string::npos, more != 0) << told;
  }
}

TEST_F(RestoredTest, IsSentAllThatItLostThoughTheProgramEndsMeanwhile) {
  std::atomic<bool> sent{false};
  {
    bool connects = true;
    auto answer = [&](std::span<const DeliveryEvent> events) {
      if (std::exchange(connects, false)) return connected();
      if (events[0].event.body == "1") return Delivery{};
      sent = true;
      return Delivery::retry("busy");
    };
    DeliveryThread thread(settings, id, std::make_unique<Scripted>(answer, accepted, mutex), *spool, *letters,
                          problems);
    for (int i = 0; i < 6000 && !sent; ++i) std::this_thread::sleep_for(5ms);
  }
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent>) {
    return std::exchange(connects, false) ? connected() : Delivery{};
  });
  EXPECT_EQ(accepted, (Bodies{"1", "1", "2", "3", "4"}));
}

// It has a part of the newest record again when the program ends: that record is there, and not all of it.
TEST_F(RestoredTest, IsSentTheRestOfARecordThoughTheProgramEndsInItsMiddle) {
  LogNumber newest;
  append({"5", "6"});
  run_until_done([&](std::span<const DeliveryEvent> events) {
    newest = {events.back().number.epoch, events.back().number.number};
    return Delivery{};
  });
  accepted.clear();
  append({"7"});
  std::atomic<bool> busy{false};
  {
    bool connects = true;
    auto answer = [&](std::span<const DeliveryEvent> events) {
      if (std::exchange(connects, false)) return connected();
      busy = events[0].event.body == "6";
      return busy ? Delivery::retry("busy") : Delivery{};
    };
    DeliveryThread thread(settings, id, std::make_unique<Scripted>(answer, accepted, mutex), *spool, *letters,
                          problems);
    for (int i = 0; i < 6000 && !busy; ++i) std::this_thread::sleep_for(5ms);
  }
  EXPECT_EQ(accepted.back(), "5");
  accepted.clear();
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent>) {
    if (!std::exchange(connects, false)) return Delivery{};
    Delivery d = connected();
    d.held = newest;
    return d;
  });
  EXPECT_EQ(std::count(accepted.begin(), accepted.end(), "6"), 1) << testing::PrintToString(accepted);
  EXPECT_EQ(accepted.back(), "7");
}

// It took a part of the batch in hand, of which the spool's state says nothing yet.
TEST_F(RestoredTest, IsSentAgainWhatItLostOfTheBatchInHand) {
  append({"5", "6"});
  LogNumber fourth;
  bool lost = true;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    if (events[0].event.body == "4") fourth = {events[0].number.epoch, events[0].number.number};
    if (events[0].event.body != "6" || !std::exchange(lost, false)) return Delivery{};
    Delivery d = connected();
    d.held = fourth;
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"4", "5", "5", "6"}));
  EXPECT_EQ(spool->counter(counter_of_destination(id, "rewound")), 1);
  EXPECT_EQ(spool->counter(counter_of_destination(id, "answered")), 6);
}

// Else it would take what comes later for the newest that it has, and what it lost for known.
TEST_F(RestoredTest, IsOfferedNoOtherHalfBeforeWhatItLost) {
  give_up_after("6h", "4");
  append({"5", "6", "7", "8"});
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    if (events.size() > 2 && connects) {
      Delivery d = Delivery::retry("too much");
      d.separable = true;
      return d;
    }
    if (events[0].event.body == "5" && std::exchange(connects, false)) return connected();
    return Delivery{};
  });
  EXPECT_EQ(accepted, (Bodies{"4", "1", "2", "3", "4", "5", "6", "7", "8"}));
}

// One event is turned away; one of another lane is offered, to see whether it takes any.
TEST_F(RestoredTest, IsSentAllThatItLostThoughATrialLearnedOfIt) {
  give_up_after("20ms", "1");
  std::uint64_t stream = 2;
  while (lane_of(stream) == lane_of(1)) ++stream;
  append_bodies(*spool, id, {"9"}, stream);
  bool connects = true;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    if (events[0].event.body == "9" && std::exchange(connects, false)) return connected();
    Delivery d;
    if (connects) d = Delivery::retry("turned away"), d.separable = true;
    return d;
  });
  EXPECT_FALSE(connects);
  EXPECT_EQ(accepted, (Bodies{"1", "2", "3", "4", "9"}));
}

class RestoredLateTest : public RestoredTest {
 protected:
  RestoredLateTest() { segment_size = 1; }  // a segment for each record; those that were passed go
};

// What the spool does not have any more stays said when the destination is connected to again meanwhile.
TEST_F(RestoredLateTest, IsToldWhatCannotBeSentAgain) {
  for (int i = 0; i < 6000 && spool->first_record() < third.number; ++i) std::this_thread::sleep_for(5ms);
  int call = 0;
  run_until_done([&](std::span<const DeliveryEvent>) {
    if (++call > 2) return Delivery{};
    Delivery d = connected();
    if (call == 2) d.held = second;
    return d;
  });
  EXPECT_EQ(accepted.back(), "4");
  ASSERT_EQ(problems.all().size(), 1u);
  const std::string text = problems.all()[0].text;
  EXPECT_NE(text.find("; the records " + std::to_string(first.number + 1) + " to "), std::string::npos)
      << text;
}

}  // namespace
}  // namespace dingle

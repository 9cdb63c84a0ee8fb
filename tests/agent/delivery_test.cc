#include "agent/engine/delivery.h"

#include <gtest/gtest.h>

#include <filesystem>
#include <functional>
#include <thread>

#include "core/event.h"
#include "store/sqlite.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

// A destination that answers as a test says, and remembers what it accepted.
class Scripted final : public Destination {
 public:
  using Answer = std::function<Delivery(std::span<const DeliveryEvent>)>;
  Scripted(Answer answer, std::vector<std::string>& accepted, std::mutex& mutex)
      : answer_(std::move(answer)), accepted_(accepted), mutex_(mutex) {}
  Delivery deliver(std::span<const DeliveryEvent> events) override {
    Delivery d = answer_(events);
    std::lock_guard lock(mutex_);
    for (std::size_t i = 0; i < events.size(); ++i)
      if (d.of(i).form == Outcome::Form::accepted) accepted_.emplace_back(events[i].event.body);
    return d;
  }

 private:
  Answer answer_;
  std::vector<std::string>& accepted_;
  std::mutex& mutex_;
};

class DeliveryThreadTest : public testing::Test {
 protected:
  std::string folder = testing::TempDir() + "/delivery-" + std::to_string(::getpid()) + "-" +
                       testing::UnitTest::GetInstance()->current_test_info()->name();
  std::unique_ptr<Spool> spool;
  std::unique_ptr<Letters> letters;
  Problems problems{[](const Problems::Problem&, bool) {}};
  DestinationSettings settings;
  std::vector<std::string> accepted;
  std::mutex mutex;
  std::uint32_t id = 0;

  void SetUp() override {
    std::filesystem::remove_all(folder);
    open();
    settings.name = "d";
    give_up_after("6h");
  }
  void TearDown() override {
    spool.reset();
    letters.reset();
    std::filesystem::remove_all(folder);
  }
  void open() {
    spool.reset();
    auto opened = Spool::open(system_disk(), {.folder = folder + "/spool"});
    ASSERT_TRUE(opened);
    spool = std::move(*opened);
    letters = std::make_unique<Letters>(folder + "/letters");
    id = spool->destination("d");
  }
  void give_up_after(const char* duration) {
    Node retry, root, first, longest, give_up;
    for (auto [node, text] : {std::pair{&first, "1ms"}, {&longest, "5ms"}, {&give_up, duration}}) {
      node->form = Node::Form::scalar;
      node->scalar = text;
    }
    retry.form = root.form = Node::Form::map;
    retry.entries = {{"first", {}, first}, {"longest", {}, longest}, {"give_up_after", {}, give_up}};
    root.entries = {{"retry", {}, retry}};
    Findings findings("");
    settings.common = Options::read(destination_options(), root, "d", findings);
    ASSERT_EQ(findings.errors(), 0u);
  }
  void append(const std::vector<std::string>& bodies) {
    Batch batch;
    for (const std::string& body : bodies) {
      Event e;
      e.body = body;
      batch.events.push_back(e);
    }
    Section section{1, "p", "c", {{id, {}, {}}}, &batch};
    Spool::Append a;
    a.destinations = {{id, static_cast<std::uint32_t>(bodies.size())}};
    a.events = encode_events("s", 1, {}, {section});
    ASSERT_EQ(spool->append(a), 0);
  }
  void run_until_done(Scripted::Answer answer) {
    DeliveryThread thread(settings, id, std::make_unique<Scripted>(std::move(answer), accepted, mutex),
                          *spool, *letters, problems);
    for (int i = 0; i < 500 && spool->waiting(id).events > 0; ++i) std::this_thread::sleep_for(5ms);
    EXPECT_EQ(spool->waiting(id).events, 0u);
  }
  static Delivery all(Outcome::Form form, const char* reason) {
    return {{{form, reason}}, std::nullopt, std::nullopt};
  }
};

using Bodies = std::vector<std::string>;

TEST_F(DeliveryThreadTest, InOrderAndTheCursorMoves) {
  append({"1", "2"});
  append({"3"});
  run_until_done([](std::span<const DeliveryEvent>) { return Delivery{}; });
  EXPECT_EQ(accepted, (Bodies{"1", "2", "3"}));
  open();
  EXPECT_EQ(spool->waiting(id).events, 0u) << "the cursor was noted";
}

TEST_F(DeliveryThreadTest, WhatCannotBeTakenNowIsTriedAgain) {
  append({"1", "2"});
  int tries = 0;
  run_until_done(
      [&](std::span<const DeliveryEvent>) { return ++tries < 4 ? Delivery::retry("busy") : Delivery{}; });
  EXPECT_EQ(accepted, (Bodies{"1", "2"}));
  EXPECT_EQ(tries, 4);
  EXPECT_EQ(spool->counter(counter_of_destination(id, "retried")), 6);
  EXPECT_TRUE(problems.all().empty()) << "the problem ended";
}

TEST_F(DeliveryThreadTest, OnlyWhatWasNotAcceptedComesAgain) {
  append({"1", "bad", "3"});
  int tries = 0;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d;
    d.outcomes.clear();
    for (const auto& e : events)
      d.outcomes.push_back(e.event.body == "bad" && tries < 2 ? Outcome{Outcome::Form::retry, "later"}
                                                              : Outcome{});
    ++tries;
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"1", "3", "bad"}));
}

TEST_F(DeliveryThreadTest, RefusedForGoodIsSetAsideWithItsReason) {
  give_up_after("0s");
  append({"1", "bad", "3"});
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d;
    d.outcomes.clear();
    for (const auto& e : events)
      d.outcomes.push_back(e.event.body == "bad" ? Outcome{Outcome::Form::refused, "too wide"} : Outcome{});
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"1", "3"}));
  EXPECT_EQ(letters->count(id), 1u);
  EXPECT_EQ(spool->counter(counter_of_destination(id, "set_aside")), 1);
  Connection connection(folder + "/letters", SQLITE_OPEN_READONLY);
  Statement s(connection.get(), "SELECT reason, event FROM letter");
  ASSERT_TRUE(s.step());
  EXPECT_EQ(s.blob(0), "too wide");
  EXPECT_NE(s.blob(1).find("\"body\":\"bad\""), std::string::npos);
}

TEST_F(DeliveryThreadTest, UnreachableIsWaitedForHoweverLong) {
  give_up_after("0s");
  append({"1"});
  int tries = 0;
  run_until_done([&](std::span<const DeliveryEvent>) {
    return ++tries < 20 ? Delivery::retry("no route") : Delivery{};
  });
  EXPECT_EQ(letters->count(id), 0u);
  EXPECT_EQ(accepted, (Bodies{"1"}));
}

TEST_F(DeliveryThreadTest, RetryAfterIsHonoured) {
  append({"1"});
  int tries = 0;
  const auto begin = std::chrono::steady_clock::now();
  run_until_done([&](std::span<const DeliveryEvent>) {
    Delivery d = all(Outcome::Form::retry, "slow down");
    d.retry_after = 150ms;
    return ++tries == 1 ? d : Delivery{};
  });
  EXPECT_GE(std::chrono::steady_clock::now() - begin, 150ms);
}

TEST_F(DeliveryThreadTest, StoppingInTheMiddleLeavesTheCursor) {
  append({"1", "2"});
  {
    DeliveryThread thread(
        settings, id,
        std::make_unique<Scripted>([](std::span<const DeliveryEvent>) { return Delivery::retry("busy"); },
                                   accepted, mutex),
        *spool, *letters, problems);
    for (int i = 0; i < 3000 && problems.all().empty(); ++i) std::this_thread::sleep_for(10ms);
    EXPECT_EQ(problems.all().size(), 1u);
  }
  EXPECT_EQ(spool->waiting(id).events, 2u);
  EXPECT_TRUE(problems.all().empty());
  run_until_done([](std::span<const DeliveryEvent>) { return Delivery{}; });
  EXPECT_EQ(accepted, (Bodies{"1", "2"}));
}

TEST_F(DeliveryThreadTest, LettersAreUniqueOverReplays) {
  const std::vector<Letter> same{{1, {1, 5}, 0, 0, 1, "r", "{}"}, {1, {1, 5}, 1, 0, 1, "r", "{}"}};
  std::string problem;
  EXPECT_TRUE(letters->keep(same, &problem));
  EXPECT_TRUE(letters->keep(same, &problem));
  EXPECT_EQ(letters->count(1), 2u);
}

}  // namespace
}  // namespace dingle

#include "agent/engine/delivery.h"

#include <fstream>

#include "agent/engine/concealed.h"
#include "agent/sealing.h"
#include "store/sqlite.h"
#include "tests/agent/delivery_fixture.h"

namespace dingle {
namespace {

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

// A fault of the program, or of a library: it must not end the program, nor lose anything.
TEST_F(DeliveryThreadTest, WhatADestinationThrowsIsAProblemAndARetry) {
  append({"1", "2"});
  append({"3"});
  int tries = 0;
  std::string told;
  run_until_done([&](std::span<const DeliveryEvent>) {
    if (++tries == 3) told = problems.all().empty() ? "" : problems.all()[0].text;
    if (tries < 3) throw std::runtime_error("no such member");
    return Delivery{};
  });
  EXPECT_EQ(accepted, (Bodies{"1", "2", "3"}));
  EXPECT_NE(told.find("no such member"), std::string::npos) << told;
  EXPECT_TRUE(problems.all().empty()) << "the problem ended";
}

// What was refused, resent and answered for is not offered once more when its batch comes again.
TEST_F(DeliveryThreadTest, ALetterThatWasResentStaysAnsweredForWhileItsBatchIsNotThrough) {
  append({"1", "bad", "3"});
  {
    std::atomic<int> rounds{0};
    DeliveryThread thread(settings, id,
                          std::make_unique<Scripted>(
                              [&](std::span<const DeliveryEvent> events) {
                                Delivery d;
                                d.outcomes.clear();
                                for (const auto& e : events)
                                  d.outcomes.push_back(e.event.body == "bad"
                                                           ? Outcome{Outcome::Form::refused, "too wide"}
                                                           : Outcome{Outcome::Form::retry, "away"});
                                ++rounds;
                                return d;
                              },
                              accepted, mutex),
                          *spool, *letters, problems);
    while (letters->count(id) == 0 || rounds < 3) std::this_thread::sleep_for(1ms);
  }
  for (const Letter& letter : letters->list({.destination = id}, 10, true))
    spool->append({.destinations = {{id, 1}}, .events = letter.record});
  letters->remove({.destination = id});
  run_until_done([](std::span<const DeliveryEvent>) { return Delivery{}; });
  std::sort(accepted.begin(), accepted.end());
  EXPECT_EQ(accepted, (Bodies{"1", "3", "bad"}));
  EXPECT_EQ(spool->counter(counter_of_destination(id, "set_aside")), 1);
  letters->forget_taken(id, spool->last_record() + 1);
  EXPECT_TRUE(letters->kept_behind(id, 0).empty());
}

TEST_F(DeliveryThreadTest, OfHalvesTheLongestRetryAfterCounts) {
  append({"1", "2"});
  bool asked = false;
  const auto begin = std::chrono::steady_clock::now();
  run_until_done([&](std::span<const DeliveryEvent> events) {
    if (asked) return Delivery{};
    Delivery d = events.size() == 2 ? all(Outcome::Form::refused, "one of them") : Delivery::retry("later");
    d.separable = true;
    if (events.size() == 1) d.retry_after = events[0].event.body == "1" ? 60ms : 1ms;
    asked = events[0].event.body == "2";
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"1", "2"}));
  EXPECT_GE(std::chrono::steady_clock::now() - begin, 60ms);
}

// A part of a batch that is always answered with no: another lane is tried, but never past what waits in the batch itself.
TEST_F(DeliveryThreadTest, ATrialKeepsTheOrderWithinTheBatchInHand) {
  give_up_after("20ms", "1");
  append_bodies(*spool, id, {"stuck"}, 1);
  append_bodies(*spool, id, {"a1", "a2"}, 2);
  append_bodies(*spool, id, {"b1"}, 3);
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d = events[0].event.body == "stuck" ? Delivery::retry("no") : Delivery{};
    d.separable = events[0].event.body == "stuck";
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"a1", "a2", "b1"}));
  EXPECT_EQ(letters->count(id), 1u);
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

// Nothing is kept or told of what a line holds that another pipeline hides, but sealed.
TEST_F(DeliveryThreadTest, ALetterOfWhatAnotherPipelineHidesSaysNothing) {
  ::setenv("DINGLE_TEST_HELD", "the ferry's key", 1);
  for (const bool keyed : {false, true}) {
    if (keyed) holder = sealing_with("env:DINGLE_TEST_HELD");
    append_bodies(*spool, id, {"kestrelmann came aboard"}, 1, true);
    run_until_done([&](std::span<const DeliveryEvent> events) {
      return all(Outcome::Form::refused,
                 ("no room for " + std::string(events[0].event.body) + " aboard!").c_str());
    });
    const Letter letter = letters->list({.destination = id}, 10, true).back();
    EXPECT_EQ(letter.reason, "no room for *** *** *** ***!");
    EXPECT_EQ((letter.event + letter.record).find("kestrelmann"), std::string::npos) << letter.event;
    EXPECT_NE(letter.event.find("\"body\":\"{"), std::string::npos) << letter.event;
    EXPECT_EQ(is_sealed(letter), keyed);
    EXPECT_EQ(letter.event.find("dingle.held") != std::string::npos, keyed);
    const auto record = opened_record(letter, "env:DINGLE_TEST_HELD");
    ASSERT_TRUE(record) << record.problem().message;
    EventDecoder decoder;
    std::vector<SpooledEvent> events;
    ASSERT_TRUE(decoder.decode(*record, id, events));
    EXPECT_EQ(events.at(0).body == "kestrelmann came aboard", keyed);
    if (!keyed) continue;
    EXPECT_NE(opened_record(letter, "").problem().message.find("there is no key"), std::string::npos);
    ::setenv("DINGLE_TEST_HELD", "another", 1);
    EXPECT_NE(opened_record(letter, "env:DINGLE_TEST_HELD").problem().message.find("another key"),
              std::string::npos);
  }
}

TEST_F(DeliveryThreadTest, AnOutageIsToldInItsOwnWords) {
  append_bodies(*spool, id, {"connection refused"}, 1, true);
  std::string told;
  int times = 0;
  run_until_done([&](std::span<const DeliveryEvent>) {
    if (times++ == 1) told = problems.all().at(0).text;
    return times < 3 ? Delivery::retry("connection refused") : Delivery();
  });
  EXPECT_EQ(told, "connection refused");
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

TEST_F(DeliveryThreadTest, AnOutageDoesNotUseUpThePatienceForAnEvent) {
  give_up_after("60ms");
  append({"1", "bad"});
  int tries = 0;
  const auto begin = std::chrono::steady_clock::now();
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d;
    if (++tries == 1) {
      d.outcomes = {{}, {Outcome::Form::retry, "500 for the event"}};
      d.judged = true;
      EXPECT_EQ(events.size(), 2u);
    } else if (std::chrono::steady_clock::now() - begin < 120ms) {
      d = Delivery::retry("no route");
    }
    return d;
  });
  EXPECT_EQ(accepted, (Bodies{"1", "bad"}));
  EXPECT_EQ(letters->count(id), 0u);
}

TEST_F(DeliveryThreadTest, WhatTakesTooLongIsSentInPartsThatGrowAgain) {
  Bodies bodies;
  for (int i = 0; i < 2000; ++i) bodies.push_back(std::to_string(i));
  append(bodies);
  std::size_t most = 10, calls = 0, largest = 0;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    Delivery d;
    if (events.size() > most) {
      d = Delivery::retry("no answer in time");
      d.too_slow = true;
    } else if (++calls > 50) {
      most = 10'000;  // it has recovered
      largest = std::max(largest, events.size());
    }
    return d;
  });
  EXPECT_EQ(accepted, bodies) << "in order";
  EXPECT_GT(largest, 30u);
}

TEST_F(DeliveryThreadTest, WhatItsDestinationTidiedIsCountedAndSaid) {
  class Tidies final : public Destination {
   public:
    Delivery deliver(std::span<const DeliveryEvent>) override { return {}; }
    Housekeeping idle() override { return {{{"removed", 3}}, {"3 are gone"}}; }
  };
  std::mutex said_mutex;
  std::vector<std::string> said;
  Problems listening{[&](const Problems::Problem& p, Problems::Said s) {
    std::lock_guard lock(said_mutex);
    if (s == Problems::Said::note) said.push_back(p.about + ": " + p.text);
  }};
  auto counted = [&] { return spool->counter(counter_of_destination(id, "removed")); };
  {
    DeliveryThread thread(settings, id, std::make_unique<Tidies>(), *spool, *letters, listening);
    for (int i = 0; i < 2000 && counted() == 0; ++i) std::this_thread::sleep_for(5ms);
  }
  EXPECT_EQ(counted() % 3, 0);
  EXPECT_GE(counted(), 3);
  ASSERT_FALSE(said.empty());
  EXPECT_EQ(said[0], "destination d: 3 are gone");
}

TEST_F(DeliveryThreadTest, ItsStateTellsWhatWasTakenAndHowLongItTook) {
  append({"1", "2"});
  append({"3", "4", "5"});
  int calls = 0;
  DeliveryThread thread(settings, id,
                        std::make_unique<Scripted>(
                            [&](std::span<const DeliveryEvent>) {
                              Delivery d = ++calls == 1 ? Delivery::retry("busy") : Delivery{};
                              d.counts = {{"sent", 1}};
                              return d;
                            },
                            accepted, mutex),
                        *spool, *letters, problems);
  for (int i = 0; i < 2000 && spool->waiting(id).events > 0; ++i) std::this_thread::sleep_for(5ms);
  const auto status = thread.status();
  EXPECT_EQ(status.delivered, 5u);
  EXPECT_EQ(status.retries, 1u);
  EXPECT_FALSE(status.failing);
  EXPECT_EQ(status.reason, "");
  EXPECT_EQ(status.next_try, 0);
  EXPECT_GT(status.last_accepted, 0);
  EXPECT_EQ(thread.latency().count(), 5u);
  EXPECT_EQ(thread.id(), id);
  EXPECT_EQ(spool->counter(counter_of_destination(id, "retried")), 5);
  EXPECT_EQ(spool->counter(counter_of_destination(id, "sent")), calls);
  EXPECT_TRUE(problems.all().empty());
}

// What it may make durable later goes together, some records at a time, and is passed once it is.
TEST_F(DeliveryThreadTest, WhatIsDeferredIsPassedTogether) {
  class Defers final : public Destination {
   public:
    Delivery deliver(std::span<const DeliveryEvent> events) override {
      Delivery d;
      d.durable = !may_defer;
      std::lock_guard lock(mutex);
      bodies.emplace_back(events[0].event.body);
      deferring.push_back(may_defer);
      return d;
    }
    std::mutex mutex;
    std::vector<std::string> bodies;
    std::vector<bool> deferring;
  };
  give_up_after("6h", "1");
  Bodies all;
  for (int i = 0; i < 12; ++i) append({all.emplace_back(std::to_string(i))});
  ASSERT_TRUE(spool->wait_durable(5s)) << "only what is durable is taken";
  auto made = std::make_unique<Defers>();
  Defers& defers = *made;
  DeliveryThread thread(settings, id, std::move(made), *spool, *letters, problems);
  for (int i = 0; i < 2000 && spool->waiting(id).events > 0; ++i) std::this_thread::sleep_for(5ms);
  std::lock_guard lock(defers.mutex);
  EXPECT_EQ(defers.bodies, all) << "each once";
  EXPECT_EQ(spool->waiting(id).events, 0u);
  std::size_t in_a_row = 0, most = 0;
  for (const bool deferred : defers.deferring) most = std::max(most, in_a_row = deferred ? in_a_row + 1 : 0);
  EXPECT_EQ(most, 3u) << "the fourth makes them durable, and others follow";
  EXPECT_GE(std::count(defers.deferring.begin(), defers.deferring.end(), true), 9);
}

TEST_F(DeliveryThreadTest, ARecordDamagedMeanwhileIsCounted) {
  give_up_after("6h", "1");
  append({"first"});
  append({"spoiled", "rotten"});
  append({"last"});
  ASSERT_TRUE(spool->wait_durable(5s));
  for (const auto& entry : std::filesystem::directory_iterator(folder + "/spool")) {
    std::ifstream in(entry.path(), std::ios::binary);
    std::string bytes(std::istreambuf_iterator<char>(in), {});
    const std::size_t at = bytes.find("spoiled");
    if (at == std::string::npos) continue;
    std::fstream out(entry.path(), std::ios::binary | std::ios::in | std::ios::out);
    out.seekp(static_cast<std::streamoff>(at)).put('S');
  }
  run_until_done([](std::span<const DeliveryEvent>) { return Delivery{}; });
  EXPECT_EQ(accepted, (Bodies{"first", "last"}));
  EXPECT_EQ(spool->counter(counter_of_destination(id, "damaged")), 2);
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
  EXPECT_TRUE(letters->list({}, 10).empty());
  std::string problem;
  EXPECT_TRUE(letters->keep(same, &problem));
  EXPECT_TRUE(letters->keep(same, &problem));
  EXPECT_EQ(letters->count(1), 2u);
}

// Answers of a destination that says only yes or no to a batch: `bad` spoils it.
Delivery spoiled(std::span<const DeliveryEvent> events, Outcome::Form form) {
  Delivery d;
  for (const auto& e : events)
    if (e.event.body == "bad") d.outcomes = {{form, "400: spoiled"}};
  d.separable = true;
  return d;
}

TEST_F(DeliveryThreadTest, TheEventToBlameIsFoundByHalving) {
  std::vector<std::string> bodies;
  for (int i = 0; i < 100; ++i) bodies.push_back(i == 37 ? "bad" : std::to_string(i));
  append(bodies);
  int calls = 0;
  run_until_done([&](std::span<const DeliveryEvent> events) {
    ++calls;
    return spoiled(events, Outcome::Form::refused);
  });
  std::erase(bodies, "bad");
  EXPECT_EQ(accepted, bodies) << "in order";
  ASSERT_EQ(letters->list({}, 10).size(), 1u);
  EXPECT_EQ(letters->list({}, 10)[0].reason, "400: spoiled");
  EXPECT_LT(calls, 20);
}

TEST_F(DeliveryThreadTest, WhatIsTurnedAwayWhileOthersAreTakenIsGivenUp) {
  give_up_after("10ms");
  append({"1", "2", "bad", "4"});
  append({"5"});
  run_until_done([](std::span<const DeliveryEvent> events) { return spoiled(events, Outcome::Form::retry); });
  EXPECT_EQ(accepted, (Bodies{"1", "2", "4", "5"}));
  EXPECT_EQ(letters->count(id), 1u);
}

TEST_F(DeliveryThreadTest, AnEventKeptBeforeACrashIsNotTriedAgain) {
  append({"1", "2"});
  std::string problem;
  Spool::Read read;
  ASSERT_TRUE(spool->read(id, 0, 1min, read));
  ASSERT_TRUE(letters->keep({{id, read.number, 1, 0, 1, "r", "{}"}}, &problem));
  ASSERT_EQ(letters->kept_behind(id, 0).size(), 1u);
  run_until_done([](std::span<const DeliveryEvent>) { return Delivery{}; });
  EXPECT_EQ(accepted, (Bodies{"1"}));
  EXPECT_EQ(spool->counter(counter_of_destination(id, "set_aside")), 1);
}

TEST_F(DeliveryThreadTest, AFullStoreOfLettersPausesTheDestination) {
  letters = std::make_unique<Letters>(folder + "/small", 1);
  append({"bad"});
  {
    DeliveryThread thread(
        settings, id,
        std::make_unique<Scripted>(
            [](std::span<const DeliveryEvent>) { return all(Outcome::Form::refused, "no"); }, accepted,
            mutex),
        *spool, *letters, problems);
    for (int i = 0; i < 3000 && problems.all().empty(); ++i) std::this_thread::sleep_for(10ms);
    ASSERT_EQ(problems.all().size(), 1u);
    EXPECT_NE(problems.all()[0].text.find("full"), std::string::npos);
  }
  EXPECT_EQ(spool->waiting(id).events, 1u) << "nothing is lost";
}

TEST_F(DeliveryThreadTest, ALetterHoldsTheEventAsItWas) {
  append({"bad"});
  run_until_done([](std::span<const DeliveryEvent>) { return all(Outcome::Form::refused, "no"); });
  const auto list = letters->list({{}, id, "no", 0}, 10, true);
  ASSERT_EQ(list.size(), 1u);
  EventDecoder decoder;
  std::vector<SpooledEvent> events;
  ASSERT_TRUE(decoder.decode(list[0].record, id, events));
  ASSERT_EQ(events.size(), 1u);
  EXPECT_EQ(events[0].body, "bad");
  EXPECT_EQ(events[0].source, "s");
  EXPECT_EQ(letters->by_reason({}).at(0).letters, 1u);
  EXPECT_EQ(letters->remove({{list[0].id}, 0, "", 0}), 1u);
  EXPECT_EQ(letters->count(id), 0u);
}

}  // namespace
}  // namespace dingle

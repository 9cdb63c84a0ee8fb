// A delivery thread with a spool, letters and a destination of the test's.
#pragma once

#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <functional>
#include <mutex>
#include <thread>

#include "agent/engine/delivery.h"
#include "tests/agent/append_bodies.h"

namespace dingle {

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
  Problems problems{[](const Problems::Problem&, Problems::Said) {}};
  DestinationSettings settings;
  std::vector<std::string> accepted;
  std::mutex mutex;
  std::shared_ptr<const Sealing> holder;
  std::uint32_t id = 0;
  std::uint64_t delivered = 0;  // as its state said at the end of `run_until_done`
  std::uint64_t segment_size = SpoolSettings().segment_size;

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
    auto opened = Spool::open(system_disk(), {.folder = folder + "/spool", .segment_size = segment_size});
    ASSERT_TRUE(opened);
    spool = std::move(*opened);
    letters = std::make_unique<Letters>(folder + "/letters");
    id = spool->destination("d");
  }
  void give_up_after(const char* duration, const char* most_events = "1000") {
    Node retry, batch, root, first, longest, give_up, events;
    for (auto [node, text] :
         {std::pair{&first, "1ms"}, {&longest, "5ms"}, {&give_up, duration}, {&events, most_events}}) {
      node->form = Node::Form::scalar;
      node->scalar = text;
    }
    retry.form = batch.form = root.form = Node::Form::map;
    batch.entries = {{"events", {}, events}};
    retry.entries = {{"first", {}, first}, {"longest", {}, longest}, {"give_up_after", {}, give_up}};
    root.entries = {{"retry", {}, retry}, {"batch", {}, batch}};
    Findings findings("");
    settings.common = Options::read(destination_options(), root, "d", findings);
    ASSERT_EQ(findings.errors(), 0u);
  }
  void append(const std::vector<std::string>& bodies) { append_bodies(*spool, id, bodies); }
  void run_until_done(Scripted::Answer answer) {
    DeliveryThread thread(settings, id, std::make_unique<Scripted>(std::move(answer), accepted, mutex),
                          *spool, *letters, problems, [this] { return holder; });
    for (int i = 0; i < 6000 && spool->waiting(id).events > 0; ++i) std::this_thread::sleep_for(5ms);
    EXPECT_EQ(spool->waiting(id).events, 0u);
    delivered = thread.status().delivered;
  }
  static Delivery all(Outcome::Form form, const char* reason) { return {{{form, reason}}}; }
};

using Bodies = std::vector<std::string>;

}  // namespace dingle

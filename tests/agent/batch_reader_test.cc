#include "agent/engine/batch_reader.h"

#include <gtest/gtest.h>

#include <thread>

#include "spool/memory.h"
#include "tests/agent/append_bodies.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;
using Bodies = std::vector<std::string>;

// What reads ahead must be the same as what does not.
class BatchReaderTest : public testing::TestWithParam<bool> {
 protected:
  std::unique_ptr<Disk> disk = make_memory_disk();
  std::unique_ptr<Spool> spool;
  std::uint32_t id = 0;
  std::atomic<bool> stopping{false};
  BatchReader::Limits limits{.events = 4, .bytes = 1u << 20, .age = 1ms, .ahead = GetParam()};
  std::uint64_t cursor = 0;

  void SetUp() override {
    auto opened = Spool::open(*disk, {.folder = "/spool"});
    ASSERT_TRUE(opened);
    spool = std::move(*opened);
    id = spool->destination("d");
  }
  // Visible to the reader when it returns: what is not durable yet is company that may come too late.
  void append(const Bodies& bodies) {
    append_bodies(*spool, id, bodies);
    ASSERT_TRUE(spool->wait_durable(1min));
  }
  Bodies next(BatchReader& reader) {
    Bodies bodies;
    if (BatchReader::Read* batch = reader.next(cursor)) {
      for (const DeliveryEvent& e : batch->events) bodies.emplace_back(e.event.body);
      cursor = batch->last();
    }
    return bodies;
  }
};
INSTANTIATE_TEST_SUITE_P(AheadOrNot, BatchReaderTest, testing::Bool());

TEST_P(BatchReaderTest, WholeRecordsUpToTheLimit) {
  append({"1", "2"});
  append({"3"});
  append({"4", "5"});
  append({"6", "7", "8", "9", "10"});
  append({"11"});
  BatchReader reader(*spool, id, limits, stopping);
  EXPECT_EQ(next(reader), (Bodies{"1", "2", "3"}));
  EXPECT_EQ(next(reader), (Bodies{"4", "5"}));
  EXPECT_EQ(next(reader), (Bodies{"6", "7", "8", "9", "10"})) << "a single record may have more";
  EXPECT_EQ(next(reader), (Bodies{"11"}));
  EXPECT_EQ(next(reader), Bodies());
}
TEST_P(BatchReaderTest, BytesAreLimitedToo) {
  limits.bytes = 1;
  append({"1"});
  append({"2"});
  BatchReader reader(*spool, id, limits, stopping);
  EXPECT_EQ(next(reader), Bodies{"1"});
  EXPECT_EQ(next(reader), Bodies{"2"});
}
TEST_P(BatchReaderTest, EverythingOnceWhileItIsAppended) {
  std::thread writer([&] {
    for (int i = 0; i < 300; ++i)
      append_bodies(*spool, id, Bodies(static_cast<std::size_t>(i % 5 + 1), std::to_string(i)));
  });
  Bodies expected, seen;
  for (int i = 0; i < 300; ++i)
    expected.insert(expected.end(), static_cast<std::size_t>(i % 5 + 1), std::to_string(i));
  BatchReader reader(*spool, id, limits, stopping);
  for (int i = 0; i < 1000 && seen.size() < expected.size(); ++i) {
    const Bodies more = next(reader);
    seen.insert(seen.end(), more.begin(), more.end());
  }
  writer.join();
  EXPECT_EQ(seen, expected);
}
TEST_P(BatchReaderTest, GoesBackWhenAsked) {
  for (const char* body : {"1", "2", "3", "4", "5", "6", "7", "8", "9"}) append({body});
  BatchReader reader(*spool, id, limits, stopping);
  EXPECT_EQ(next(reader), (Bodies{"1", "2", "3", "4"}));
  cursor = 0;
  EXPECT_EQ(next(reader), (Bodies{"1", "2", "3", "4"}));
  EXPECT_EQ(next(reader), (Bodies{"5", "6", "7", "8"}));
  reader.forget();
  EXPECT_EQ(next(reader), Bodies{"9"});
}
TEST_P(BatchReaderTest, WhatWasReadAheadIsFilledUp) {
  for (const char* body : {"1", "2", "3", "4", "5"}) append({body});
  limits.age = 10s;
  BatchReader reader(*spool, id, limits, stopping);
  EXPECT_EQ(next(reader).size(), 4u);
  std::this_thread::sleep_for(20ms);  // so that it has read "5", if it reads ahead
  for (const char* body : {"6", "7", "8", "9"}) append({body});
  EXPECT_EQ(next(reader), (Bodies{"5", "6", "7", "8"}));
}
TEST_P(BatchReaderTest, EndsSoonWhenStopping) {
  append({"1"});
  limits.age = 1h;
  BatchReader reader(*spool, id, limits, stopping);
  std::thread stopper([&] {
    std::this_thread::sleep_for(50ms);
    stopping = true;
    spool->wake_readers();
  });
  const auto begin = std::chrono::steady_clock::now();
  next(reader);
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 1min);
  stopper.join();
}

}  // namespace
}  // namespace dingle

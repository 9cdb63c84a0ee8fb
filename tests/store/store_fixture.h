// A store in a folder of the test's, and what the tests of it share.
#pragma once

#include <gtest/gtest.h>
#include <unistd.h>

#include <deque>
#include <filesystem>

#include "core/time/instant.h"
#include "store/search.h"
#include "store/store.h"

namespace dingle {

inline const std::int64_t kMorning = *parse_moment("2026-11-23T08:00:00Z", 0);

class StoreTest : public testing::Test {
 protected:
  std::string folder = testing::TempDir() + "/store-" + std::to_string(::getpid()) + "-" +
                       testing::UnitTest::GetInstance()->current_test_info()->name();
  std::shared_ptr<Store> store;
  Sender sender{11, 1, 5, 1};
  std::deque<std::string> texts;
  std::deque<std::vector<Field>> fields;
  std::vector<StoredEvent> events;

  void SetUp() override {
    std::filesystem::remove_all(folder);
    store = Store::at(folder);
  }
  void TearDown() override {
    store.reset();
    std::filesystem::remove_all(folder);
  }
  // Adds an event: minute after eight, status, body.
  void add(std::uint64_t number, std::int64_t minute, std::int64_t status, const std::string& body,
           std::uint64_t stream = 1) {
    auto& f = fields.emplace_back();
    f.push_back({field_id("status"), Value::integer(status)});
    if (status >= 500)
      f.push_back({field_id("reason"), Value::text(texts.emplace_back("server " + std::to_string(status)))});
    events.push_back({kMorning + minute * 60 * kSecond,
                      kMorning,
                      {sender.spool, sender.epoch, number, 0},
                      stream,
                      number * 10,
                      texts.emplace_back(body),
                      f,
                      {}});
  }
  Store::Outcome commit(const std::string& index = "gate-2026-11-23") {
    auto outcome = store->commit(index, sender, events);
    events.clear();
    return outcome;
  }
  std::vector<std::string> find(const std::string& where, std::size_t limit = 100) {
    Query q;
    if (!where.empty()) q.where = *Condition::parse(where);
    Scanned scanned;
    std::vector<std::string> bodies;
    for (const FoundEvent& e : find_events({store.get()}, q, limit, false, scanned)) {
      const std::size_t from = e.json.find("\"body\":\"") + 8;
      bodies.push_back(e.json.substr(from, e.json.find('"', from) - from));
    }
    EXPECT_TRUE(scanned.problems.empty());
    return bodies;
  }
};

using Bodies = std::vector<std::string>;

}  // namespace dingle

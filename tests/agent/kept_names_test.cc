// The names of a spool once more, beside it.
#include "agent/engine/kept_names.h"

#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <iterator>

namespace dingle {
namespace {

class KeptNamesTest : public testing::Test {
 protected:
  std::string folder = testing::TempDir() + "/names-" + std::to_string(::getpid());
  KeptNames names{folder + "/names"};
  std::unique_ptr<Spool> spool;
  void SetUp() override {
    std::filesystem::create_directories(folder);
    begin();
  }
  void TearDown() override {
    spool.reset();
    std::filesystem::remove_all(folder);
  }
  void begin() {
    spool.reset();
    std::filesystem::remove_all(folder + "/spool");
    auto opened = Spool::open(system_disk(), {.folder = folder + "/spool"});
    ASSERT_TRUE(opened) << opened.problem().message;
    spool = std::move(*opened);
  }
};

TEST_F(KeptNamesTest, AreFoundAgainByASpoolThatLostThem) {
  EXPECT_EQ(names.restore(*spool), "") << "there is no file";
  spool->destination("other");
  Spool::Naming naming;
  naming.destinations = {{"the store", ""}};
  naming.pipelines = {"gate"};
  naming.steps = {{0, "fold"}};
  ASSERT_EQ(spool->name(naming), 0);
  const auto store = naming.destination_ids[0], pipeline = naming.pipeline_ids[0], step = naming.step_ids[0];
  EXPECT_EQ(store, 2u);
  ASSERT_EQ(names.save(*spool), 0);
  EXPECT_EQ(names.restore(*spool), "");
  begin();
  EXPECT_EQ(names.restore(*spool), "destination other, destination the store, pipeline gate, step 1/fold");
  EXPECT_EQ(spool->destination("the store"), store);
  EXPECT_EQ(spool->known(0, "gate"), pipeline);
  EXPECT_EQ(spool->known(pipeline, "fold"), step);
  EXPECT_EQ(spool->destination("new"), 3u) << "ids that were given are not given again";
}

TEST_F(KeptNamesTest, CountersWhoseNamesWereLostGoOn) {
  const CounterId lines = spool->counter_id("lines of a source");
  ASSERT_EQ(names.save(*spool), 0);
  begin();
  spool->count({{lines, 5}});  // as a record says whose note was damaged
  EXPECT_EQ(names.restore(*spool), "1 counter");
  EXPECT_EQ(spool->counter("lines of a source"), 5);
  EXPECT_EQ(names.restore(*spool), "");
}

TEST_F(KeptNamesTest, AnIdThatSomebodyHasIsNotGivenTwice) {
  spool->destination("a");
  names.save(*spool);
  begin();
  spool->destination("b");  // has it now
  EXPECT_EQ(names.restore(*spool), "");
  EXPECT_EQ(spool->destination("a"), 2u);
}

TEST_F(KeptNamesTest, ADamagedFileSaysNothing) {
  spool->destination("a");
  names.save(*spool);
  std::ifstream in(folder + "/names", std::ios::binary);
  const std::string whole(std::istreambuf_iterator<char>(in), {});
  begin();
  for (std::size_t at = 0; at < whole.size(); ++at) {
    std::string damaged = whole;
    damaged[at] = static_cast<char>(damaged[at] ^ 4);
    std::ofstream(folder + "/names") << damaged;
    EXPECT_EQ(names.restore(*spool), "") << at;
    std::ofstream(folder + "/names") << whole.substr(0, at);
    EXPECT_EQ(names.restore(*spool), "") << at;
  }
}

}  // namespace
}  // namespace dingle

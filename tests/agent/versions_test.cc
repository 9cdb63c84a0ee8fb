#include "agent/engine/versions.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

namespace dingle {
namespace {

class VersionsTest : public testing::Test {
 protected:
  const std::string path = testing::TempDir() + "versions-" + std::to_string(::getpid()) + ".sqlite";
  std::string problem;
  std::optional<Versions> versions{path};
  void TearDown() override {
    versions.reset();
    for (const char* tail : {"", "-wal", "-shm"}) std::filesystem::remove(path + tail);
  }
  std::int64_t keep(const std::string& text, bool ran = true, std::int64_t at = 1) {
    Version v;
    v.text = text, v.ran = ran, v.at = at, v.who = "me", v.why = ran ? "" : "no";
    EXPECT_EQ(versions->keep(v), "");
    return v.number;
  }
  std::string all(std::size_t most = 100) {
    std::string told;
    for (const Version& v : versions->list(most, problem))
      told += std::to_string(v.number) + (v.ran ? "" : "!" + std::to_string(v.times)) + "<" +
              std::to_string(v.parent) + " ";
    EXPECT_EQ(problem, "");
    return told;
  }
};

TEST_F(VersionsTest, EachHasItsNumberAndWhatRanBefore) {
  EXPECT_FALSE(versions->current(problem));
  EXPECT_EQ(keep("a"), 1);
  EXPECT_EQ(keep("b"), 2);
  EXPECT_EQ(keep("a"), 3) << "it came back";
  EXPECT_EQ(keep("a"), 3) << "it runs already";
  EXPECT_EQ(all(), "3<2 2<1 1<0 ");
  EXPECT_EQ(all(1), "3<2 ");
  versions.emplace(path);
  EXPECT_EQ(versions->current(problem)->text, "a");
  EXPECT_EQ(versions->get(2, problem)->text, "b");
  EXPECT_EQ(versions->get(2, problem)->who, "me");
  EXPECT_FALSE(versions->get(9, problem));
  EXPECT_EQ(problem, "");
}

TEST_F(VersionsTest, WhatIsRefusedAgainAndAgainIsOne) {
  keep("a");
  EXPECT_EQ(keep("x", false, 5), 2);
  EXPECT_EQ(keep("x", false, 6), 2);
  EXPECT_EQ(keep("y", false), 3);
  EXPECT_EQ(keep("x", false), 4);
  EXPECT_EQ(keep("a"), 1) << "it went on all the while";
  EXPECT_EQ(all(), "4!1<1 3!1<1 2!2<1 1<0 ");
  EXPECT_EQ(versions->get(2, problem)->at, 6);
  EXPECT_EQ(versions->get(2, problem)->why, "no");
  EXPECT_EQ(keep("x"), 5) << "now it is taken";
}

TEST_F(VersionsTest, TheOldestGoAndAreCounted) {
  for (std::size_t i = 0; i < Versions::kMostRefused + 5; ++i) keep("x" + std::to_string(i), false);
  keep("a");
  EXPECT_EQ(versions->list(1000, problem).size(), Versions::kMostRefused + 1);
  EXPECT_EQ(versions->removed(problem), 5);
  EXPECT_FALSE(versions->get(5, problem));
  EXPECT_TRUE(versions->get(6, problem));
}

TEST_F(VersionsTest, TheFileIsItsOwnersAndADamagedOneIsTold) {
  keep("a");
  struct stat s {};
  ASSERT_EQ(::stat(path.c_str(), &s), 0);
  EXPECT_EQ(s.st_mode & 0777, 0600u);
  versions.reset();
  std::ofstream(path) << std::string(5000, 'x');
  versions.emplace(path);
  Version v;
  v.text = "b";
  EXPECT_NE(versions->keep(v), "");
  EXPECT_TRUE(versions->list(10, problem).empty());
  EXPECT_NE(problem, "");
  EXPECT_FALSE(versions->current(problem));
}

}  // namespace
}  // namespace dingle

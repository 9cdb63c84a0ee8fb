#include "agent/sources/folder_watch.h"

#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

namespace dingle {
namespace {

class FolderWatchTest : public testing::Test {
 protected:
  const std::string folder = testing::TempDir() + "/watched-" + std::to_string(::getpid());
  const PathPatterns patterns{{folder + "/a.*"}};
  FolderWatch watch;

  void SetUp() override { std::filesystem::create_directories(folder); }
  void TearDown() override { std::filesystem::remove_all(folder); }
  void write(const std::string& name) { std::ofstream(folder + "/" + name) << "x"; }
  void rename(const std::string& from, const std::string& to) {
    std::filesystem::rename(folder + "/" + from, folder + "/" + to);
  }
  PathPatterns::Found list() {
    return watch.list([this] { return patterns.find(); });
  }
};

TEST_F(FolderWatchTest, TellsOfRenamesWithTheirLastName) {
  list();
  EXPECT_FALSE(watch.wait(0).any);
  write("a.log");
  rename("a.log", "a.1");
  rename("a.1", "a.2");
  const auto news = watch.wait(1000);
  EXPECT_TRUE(news.any);
  ASSERT_EQ(news.renamed.size(), 2u);
  EXPECT_EQ(news.renamed[0].from, folder + "/a.log");
  EXPECT_EQ(news.renamed[0].to, folder + "/a.2");
}

// What is rotated at the wrong moment is in the list or told of, be it the first list or a later one.
TEST_F(FolderWatchTest, NothingIsMissedThatIsRenamedJustAfterItWasListed) {
  write("a.log");
  for (const std::string rotated : {"a.1", "a.2"}) {
    bool once = true;
    const auto found = watch.list([&] {
      const auto listed = patterns.find();
      if (std::exchange(once, false)) {
        rename("a.log", rotated);
        write("a.log");
      }
      return listed;
    });
    std::set<std::string> paths = found.paths;
    for (const auto& renamed : watch.wait(0).renamed) paths.insert(renamed.to);
    EXPECT_EQ(paths.count(folder + "/" + rotated), 1u) << rotated;
  }
}

TEST_F(FolderWatchTest, TellsWhatWasWrittenTo) {
  write("a.log");
  list();
  watch.wait(0);
  std::ofstream(folder + "/a.log", std::ios::app) << "more";
  EXPECT_FALSE(watch.has_news()) << "it is where it was";
  const auto news = watch.wait(1000);
  EXPECT_FALSE(news.any);
  EXPECT_EQ(news.written, std::vector<std::string>{folder + "/a.log"});
  EXPECT_TRUE(watch.wait(0).written.empty());
}

TEST_F(FolderWatchTest, TellsOfWhatIsBehindALink) {
  std::filesystem::create_directories(folder + "/elsewhere");
  write("elsewhere/crane");
  std::filesystem::create_symlink(folder + "/elsewhere/crane", folder + "/a.log");
  list();
  watch.add_link(folder + "/a.log");
  watch.add_link(folder + "/a.gone");
  watch.wait(0);
  write("elsewhere/other");
  std::ofstream(folder + "/elsewhere/crane", std::ios::app) << "more";
  const auto news = watch.wait(1000);
  EXPECT_FALSE(news.any);
  EXPECT_EQ(news.written, std::vector<std::string>{folder + "/a.log"});
}

TEST_F(FolderWatchTest, FoldersThatAppearWithoutEndAreListedBoundedly) {
  int lists = 0;
  watch.list([&] {
    PathPatterns::Found found;
    const std::string another = folder + "/" + std::to_string(++lists) + "/";
    std::filesystem::create_directory(another);
    found.folders.insert(another);
    return found;
  });
  EXPECT_GT(lists, 1);
  EXPECT_LT(lists, 100);
}

}  // namespace
}  // namespace dingle

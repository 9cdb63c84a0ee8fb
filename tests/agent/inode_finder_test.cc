#include "agent/sources/inode_finder.h"

#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

namespace dingle {
namespace {

using Found = InodeFinder::Found;

class InodeFinderTest : public testing::Test {
 protected:
  std::string folder = testing::TempDir() + "inodes-" + std::to_string(::getpid()) + "/";
  InodeFinder finder;
  int asked = 0;

  void SetUp() override {
    std::filesystem::create_directory(folder);
    write("gate.log");
  }
  void TearDown() override { std::filesystem::remove_all(folder); }
  void write(const std::string& name) { std::ofstream(folder + name) << name; }
  static std::uint64_t inode_of(const std::string& path) {
    struct stat info {};
    return ::stat(path.c_str(), &info) == 0 ? info.st_ino : 0;
  }
  // Rotates the file before it is opened, `times` often.
  Found find_while_it_rotates(int times) {
    const std::uint64_t inode = inode_of(folder + "gate.log");
    return finder.find(folder, inode, [&, times](const std::string& path) {
      if (asked++ < times) {
        std::filesystem::rename(path, folder + "gate.old." + std::to_string(asked));
        write("gate.log");
      }
      return inode_of(path) == inode;
    });
  }
};

TEST_F(InodeFinderTest, FindsAFileByItsName) {
  EXPECT_EQ(find_while_it_rotates(0), Found::here);
  EXPECT_EQ(asked, 1);
}

TEST_F(InodeFinderTest, FollowsAFileThatIsRenamedBetweenListingAndOpening) {
  EXPECT_EQ(find_while_it_rotates(1), Found::here);
  EXPECT_EQ(asked, 2);
}

TEST_F(InodeFinderTest, FollowsItThriceAndThenSaysThatItIsThere) {
  EXPECT_EQ(find_while_it_rotates(3), Found::here);
  asked = 0;
  EXPECT_EQ(find_while_it_rotates(100), Found::unreadable);
}

TEST_F(InodeFinderTest, ListsAgainWhatCameLater) {
  EXPECT_EQ(find_while_it_rotates(0), Found::here);
  write("berth.log");
  EXPECT_EQ(finder.find(folder, inode_of(folder + "berth.log"), [](const std::string&) { return true; }),
            Found::here);
}

TEST_F(InodeFinderTest, KnowsWhatIsGone) {
  const std::uint64_t inode = inode_of(folder + "gate.log");
  std::filesystem::remove(folder + "gate.log");
  const auto never = [](const std::string&) { return true; };
  EXPECT_EQ(finder.find(folder, inode, never), Found::gone);
  EXPECT_EQ(finder.find(folder + "not-there/", inode, never), Found::gone);
}

}  // namespace
}  // namespace dingle

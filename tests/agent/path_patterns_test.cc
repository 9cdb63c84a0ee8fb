#include "agent/sources/path_patterns.h"

#include <gtest/gtest.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

namespace dingle {
namespace {

using Texts = std::vector<std::string>;

struct Match {
  const char *pattern, *path;
  bool matches;
};
class PathMatch : public testing::TestWithParam<Match> {};
TEST_P(PathMatch, IsAsDescribed) {
  EXPECT_EQ(PathPatterns({GetParam().pattern}).matches(GetParam().path), GetParam().matches)
      << GetParam().pattern << " " << GetParam().path;
}
INSTANTIATE_TEST_SUITE_P(All, PathMatch,
                         testing::Values(Match{"/l/*.log", "/l/gate.log", true},           //
                                         Match{"/l/*.log", "/l/a/gate.log", false},        //
                                         Match{"/l/*.log", "/l/.gate.log", false},         //
                                         Match{"/l/.*.log", "/l/.gate.log", true},         //
                                         Match{"/l/g?te.log", "/l/gate.log", true},        //
                                         Match{"/l/[a-g]*", "/l/harbour", false},          //
                                         Match{"/l/gate", "/l/gate", true},                //
                                         Match{"/l/{gate,berth}*", "/l/berth1", true},     //
                                         Match{"/{l,m/n}/*", "/m/n/gate", true},           //
                                         Match{"/l/**/*.log", "/l/gate.log", true},        //
                                         Match{"/l/**/*.log", "/l/a/b/gate.log", true},    //
                                         Match{"/l/**/*.log", "/l/a/.b/gate.log", false},  //
                                         Match{"/l/**/*.log", "/m/gate.log", false},       //
                                         Match{"/l/**/b/*", "/l/a/a/b/gate", true},        //
                                         Match{"/l/**/b/*", "/l/a/a/c/gate", false},       //
                                         Match{"/l/**", "/l/a/gate", true},                //
                                         Match{"**/*.log", "a/b/gate.log", true},          //
                                         Match{"/l/g**e", "/l/gate", true},                //
                                         Match{"/l/\\*", "/l/*", true}));

TEST(PathPatterns, ChooseBracesInTheirOrder) {
  EXPECT_EQ(with_braces_chosen("a"), Texts{"a"});
  EXPECT_EQ(with_braces_chosen("a{b,c}d"), (Texts{"abd", "acd"}));
  EXPECT_EQ(with_braces_chosen("{a,b{c,d}}{,e}"), (Texts{"a", "ae", "bc", "bce", "bd", "bde"}));
  EXPECT_EQ(with_braces_chosen("{a,b"), Texts{"{a,b"});
  EXPECT_EQ(with_braces_chosen("a}b"), Texts{"a}b"});
  std::string many;
  for (int i = 0; i < 30; ++i) many += "{a,b}";
  EXPECT_LE(with_braces_chosen(many).size(), 1000u);
}

class PathPatternsFind : public testing::Test {
 protected:
  const std::filesystem::path folder = testing::TempDir() + "path-patterns-" + std::to_string(::getpid());
  void SetUp() override {
    for (const char* file : {"gate.log", "berth.log", "gate.log.gz", ".hidden.log", "pier/gate.log",
                             "pier/north/gate.log", "pier/.old/gate.log"}) {
      std::filesystem::create_directories((folder / file).parent_path());
      std::ofstream(folder / file) << file;
    }
    std::filesystem::create_directory_symlink(folder / "pier", folder / "link");
  }
  void TearDown() override { std::filesystem::remove_all(folder); }
  Texts find(const Texts& patterns, const Texts& excluded = {}) {
    Texts full, relative;
    for (const std::string& p : patterns) full.push_back(folder / p);
    found = PathPatterns(full, excluded).find();
    for (const std::string& path : found.paths) relative.push_back(path.substr(folder.string().size() + 1));
    return relative;
  }
  PathPatterns::Found found;
};

TEST_F(PathPatternsFind, NamesInAFolder) {
  EXPECT_EQ(find({"*.log"}), (Texts{"berth.log", "gate.log"}));
  EXPECT_EQ(found.folders, std::set<std::string>{folder.string() + "/"});
}
TEST_F(PathPatternsFind, AnyDepthButNotThroughLinks) {
  EXPECT_EQ(find({"**/gate.log"}), (Texts{"gate.log", "pier/gate.log", "pier/north/gate.log"}));
  EXPECT_EQ(found.folders.size(), 3u);
  EXPECT_EQ(find({"pier/**"}), (Texts{"pier/gate.log", "pier/north", "pier/north/gate.log"}));
}
TEST_F(PathPatternsFind, WildcardsInFoldersLeadThroughLinks) {
  EXPECT_EQ(find({"*/gate.log"}), (Texts{"link/gate.log", "pier/gate.log"}));
}
TEST_F(PathPatternsFind, ANameWithoutWildcardsIsThereOrNot) {
  EXPECT_EQ(find({"gate.log", "crane.log"}), Texts{"gate.log"});
  EXPECT_EQ(find({"{gate,crane}.log"}), Texts{"gate.log"});
}
TEST_F(PathPatternsFind, WhatIsExcluded) {
  EXPECT_EQ(find({"*"}, {"*.gz", "p{ier,ort}", "link"}), (Texts{"berth.log", "gate.log"}));
  EXPECT_EQ(find({"**/*.log"}, {folder / "pier/**"}), (Texts{"berth.log", "gate.log"}));
  EXPECT_FALSE(PathPatterns({"/l/*"}, {"*.gz"}).matches("/l/gate.gz"));
}
TEST_F(PathPatternsFind, MoreFoldersThanCanBeWatchedAreSaidSo) {
  for (std::size_t i = 0; i < PathPatterns::kMostFolders; ++i)
    std::filesystem::create_directory(folder / std::to_string(i));
  find({"*/gate.log"});
  EXPECT_FALSE(found.too_many);  // only one was looked through
  find({"*/g*.log"});
  EXPECT_TRUE(found.too_many);
}
TEST_F(PathPatternsFind, NothingWhereThereIsNoFolder) { EXPECT_EQ(find({"quay/*", "gate.log/*"}), Texts{}); }

}  // namespace
}  // namespace dingle

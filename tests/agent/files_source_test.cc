// The files source alone: what it hands in, and what it keeps in the spool.
#include "tests/agent/files_source.h"

namespace dingle {
namespace {

TEST_F(FilesSourceTest, GoesOnWhereItWas) {
  append("logs/gate.log", "one\ntwo\n");
  EXPECT_EQ(read(), (Lines{"one", "two"}));
  append("logs/gate.log", "three\n");
  EXPECT_EQ(read(), Lines{"three"});
}

TEST_F(FilesSourceTest, AByteOrderMarkIsNoPartOfTheFirstLine) {
  append("logs/gate.log", "\xEF\xBB\xBFone\n\xEF\xBB\xBFtwo\n");
  EXPECT_EQ(read(), (Lines{"one", "\xEF\xBB\xBFtwo"}));
  append("logs/gate.log", "three\n");
  EXPECT_EQ(read(), Lines{"three"});
}

TEST_F(FilesSourceTest, FindsFilesAtAnyDepth) {
  std::filesystem::create_directories(folder / "logs/pier/north");
  append("logs/gate.log", "one\n");
  append("logs/pier/gate.log", "two\n");
  append("logs/pier/north/gate.log", "three\n");
  append("logs/pier/north/berth.log", "four\n");
  paths = "/logs/**/gate.log";
  const auto lines = read();
  EXPECT_EQ(std::multiset<std::string>(lines.begin(), lines.end()),
            (std::multiset<std::string>{"one", "two", "three"}));
}

TEST_F(FilesSourceTest, GoesOnWhereItWasThroughASymbolicLink) {
  append("gate-0", "one\ntwo\n");
  std::filesystem::create_symlink(folder / "gate-0", folder / "logs/gate.log");
  EXPECT_EQ(read(), (Lines{"one", "two"}));
  append("gate-0", "three\n");
  EXPECT_EQ(read(), Lines{"three"});
}

TEST_F(FilesSourceTest, FindsWhatWasRotatedBehindASymbolicLink) {
  append("gate-0", "one\n");
  std::filesystem::create_symlink(folder / "gate-0", folder / "logs/gate.log");
  EXPECT_EQ(read(), Lines{"one"});
  append("gate-0", "two\n");
  std::filesystem::rename(folder / "gate-0", folder / "gate-0.rotated");
  append("gate-0", "three\n");
  EXPECT_EQ(read(), (Lines{"two", "three"}));
}

TEST_F(FilesSourceTest, GoesOnUnderAnotherDeviceNumber) {
  append("logs/gate.log", "one\ntwo\n");
  read();
  const auto before = streams;
  renumber_device("logs/gate.log", "123456");
  append("logs/gate.log", "three\n");
  EXPECT_EQ(read(), Lines{"three"});
  EXPECT_EQ(streams.at(0), before.at(0));
  EXPECT_EQ(kept(), 1u);
}

TEST_F(FilesSourceTest, DevicesThatChangedPlacesKeepTheirFiles) {
  append("logs/gate.log", "one\ntwo\n");
  read();
  renumber_device("logs/gate.log", "123456");
  // Another file had its number, on what was this device.
  spool->note(
      {{{"file/s/" + id_of("logs/gate.log"),
         FileCheckpoint{
             .path = (folder / "logs/berth.log").string(), .stream = 7, .position = 5, .rungs = {{5, 99}}}
             .encode(),
         false}},
       {}});
  append("logs/gate.log", "three\n");
  EXPECT_EQ(read(), Lines{"three"});
}

TEST_F(FilesSourceTest, OtherContentsUnderAnotherDeviceNumberAreAnotherFile) {
  append("logs/gate.log", "one\ntwo\n");
  read();
  renumber_device("logs/gate.log", "123456");
  std::ofstream(folder / "logs/gate.log") << "uno\ndos\ntres\n";  // the same inode
  EXPECT_EQ(read(), (Lines{"uno", "dos", "tres"}));
}

TEST_F(FilesSourceTest, AFolderThatIsNotThereYetKeepsItsFiles) {
  append("logs/gate.log", "one\n");
  EXPECT_EQ(read(), Lines{"one"});
  std::filesystem::rename(folder / "logs", folder / "unmounted");
  EXPECT_EQ(read(), Lines{});
  std::filesystem::create_directory(folder / "logs");  // empty, and as if of another file system
  std::filesystem::rename(folder / "unmounted/gate.log", folder / "gate.log");
  renumber_device("gate.log", "123456");
  EXPECT_EQ(read(), Lines{});
  std::filesystem::rename(folder / "gate.log", folder / "logs/gate.log");
  EXPECT_EQ(read(), Lines{});
}

// ---- lines that are not whole at the first look

TEST_F(FilesSourceTest, ALongLineIsWholeHoweverItComes) {
  for (const std::size_t first : {300'000u, 262'144u, 262'145u, 600'000u}) {
    const std::string name = "logs/" + std::to_string(first) + ".log";
    append(name, "before " + name + "\n" + std::string(first, static_cast<char>('c' + first % 20)));
    start();
    ASSERT_TRUE(until([&] { return source->bytes_behind() == first; }));
    std::this_thread::sleep_for(100ms);  // it may look again
    append(name, std::string(200'000, 'b') + "\nbehind\n");
    EXPECT_TRUE(until([&] { return source->bytes_behind() == 0u; }));
    const Lines lines = stop();
    ASSERT_EQ(lines.size(), 3u) << first;
    EXPECT_EQ(lines[1].size(), first + 200'000);
    EXPECT_EQ(lines[2], "behind");
  }
}

TEST_F(FilesSourceTest, AJoinedEventIsWholeHoweverItComes) {
  options = ", join: { indented: true, wait: 1h, most_bytes: 4MiB, most_lines: 100000 }";
  std::string event = "trace\n";
  while (event.size() < 400'000) event += "  at skerry.berthing.Pier\n";
  append("logs/gate.log", event);
  start();
  ASSERT_TRUE(until([&] { return source->bytes_behind() == event.size(); }));
  append("logs/gate.log", event.substr(6) + "next\n");
  EXPECT_TRUE(until([&] { return source->bytes_behind() == 5u; }));
  const Lines lines = stop();
  ASSERT_EQ(lines.size(), 1u);
  EXPECT_EQ(lines[0].size(), 2 * event.size() - 6 - 1);
}

TEST_F(FilesSourceTest, AnUnfinishedLineWaitsItsTimeAlsoWhereLinesAreJoined) {
  options = ", unfinished_after: 1h, join: { indented: true, wait: 20ms }";
  append("logs/gate.log", "one\nhal");
  start();
  std::this_thread::sleep_for(200ms);
  EXPECT_EQ(intake->lines(),
            Lines{});  // `hal` may become an indented line's beginning no more than a new one
  append("logs/gate.log", "f\n");
  EXPECT_TRUE(until([&] { return intake->lines().size() == 2; }));
  EXPECT_EQ(stop(), (Lines{"one", "half"}));
}

// ---- which files

TEST_F(FilesSourceTest, AnotherFileWithAKnownInodeIsNotRead) {
  append("logs/gate.log", "one\n");
  read();
  std::filesystem::remove(folder / "logs/gate.log");
  append("logs/notes.txt", "private and longer\n");
  for (const std::uint64_t position : {4u, 0u}) {
    const std::string key = "file/s/" + id_of("logs/notes.txt");
    spool->note({{{key,
                   FileCheckpoint{.path = (folder / "logs/gate.log").string(),
                                  .stream = 7,
                                  .position = position,
                                  .rungs = {{4, 99}}}
                       .encode(),
                   false}},
                 {}});
    EXPECT_EQ(read(), Lines{}) << position;
  }
}

TEST_F(FilesSourceTest, WhatWasRenamedIsReadUnlessItsNewNameIsExcluded) {
  append("logs/gate.log", "one\n");
  read();
  append("logs/gate.log", "two\n");
  std::filesystem::rename(folder / "logs/gate.log", folder / "logs/gate.log.gz");
  EXPECT_EQ(read(), Lines{});
}

TEST_F(FilesSourceTest, LinksLeadOnlyWhereTheirOwnerMightRead) {
  if (::getuid() != 0) GTEST_SKIP() << "only root can give files away";
  append("secret", "private\n");
  std::filesystem::create_symlink(folder / "secret", folder / "logs/gate.log");
  ASSERT_EQ(::lchown((folder / "logs/gate.log").c_str(), 65534, 65534), 0);
  EXPECT_EQ(read(), Lines{});
  EXPECT_NE(told().find("another owner"), std::string::npos) << told();
  options = ", links: any";
  EXPECT_EQ(read(), Lines{"private"});
  options = ", links: never";
  append("secret", "more\n");
  EXPECT_EQ(read(), Lines{});
  EXPECT_NE(told().find("`links: never`"), std::string::npos) << told();
}

TEST_F(FilesSourceTest, TheProgramsOwnFolderIsNotRead) {
  std::filesystem::create_directories(folder / "data");
  append("data/token.log", "0123456789\n");
  std::filesystem::create_symlink(folder / "data/token.log", folder / "logs/gate.log");
  EXPECT_EQ(read(), Lines{});
  EXPECT_NE(told().find("data folder"), std::string::npos) << told();
}

TEST_F(FilesSourceTest, AFolderThatIsNamedIsTold) {
  std::filesystem::create_directories(folder / "logs/gate.log");
  paths = "/logs/gate.log";
  EXPECT_EQ(read(), Lines{});
  EXPECT_NE(told().find("is a folder"), std::string::npos) << told();
}

// A quiet file sleeps until the system tells of it: in its folder, or of what is behind a link. It tells nothing of folders
// beyond those that are watched for one source.
TEST_F(FilesSourceTest, WhatNobodyTellsOfIsReadAllTheSame) {
  paths = "/logs/*/crane.log";
  std::filesystem::create_directories(folder / "elsewhere");
  for (int i = 1000; i < 2002; ++i)
    std::filesystem::create_directories(folder / ("logs/" + std::to_string(i)));
  const std::vector<std::string> written{"elsewhere/crane.log", "logs/1001/crane.log", "logs/2001/crane.log"};
  std::filesystem::create_symlink(folder / written[0], folder / "logs/1000/crane.log");
  for (const std::string& path : written) append(path, path + "\n");
  start();
  for (std::size_t n = 1; n <= 4; ++n) {
    EXPECT_TRUE(until([&] { return intake->lines().size() == written.size() * n; }));
    std::this_thread::sleep_for(120ms);  // they sleep
    for (const std::string& path : written) append(path, std::to_string(n) + "\n");
  }
  EXPECT_TRUE(until([&] { return intake->lines().size() == written.size() * 5; }));
  stop();
}

TEST_F(FilesSourceTest, ManyStreamsComeInFewBatches) {
  options = ", most_files: 2000";
  for (int i = 0; i < 1200; ++i) append("logs/unit" + std::to_string(i) + ".log", std::to_string(i) + "\n");
  start();
  EXPECT_TRUE(until([&] { return intake->lines().size() == 1200; }));
  const std::size_t before = intake->batches();
  EXPECT_LT(before, 400u);
  for (int i = 0; i < 1200; ++i) append("logs/unit" + std::to_string(i) + ".log", "second\n");
  EXPECT_TRUE(until([&] { return intake->lines().size() == 2400; }));
  EXPECT_LT(intake->batches() - before, 400u);
  stop();
  EXPECT_EQ(std::set(streams.begin(), streams.end()).size(), 1200u);
  EXPECT_EQ(kept(), 1200u);
}

TEST_F(FilesSourceTest, FilesThatAreGoneAreForgotten) {
  append("logs/gate.log", "one\n");
  read();
  EXPECT_EQ(kept(), 1u);
  std::filesystem::remove(folder / "logs/gate.log");
  read();
  EXPECT_EQ(kept(), 0u);
}

}  // namespace
}  // namespace dingle

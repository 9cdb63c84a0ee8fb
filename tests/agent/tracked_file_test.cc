#include "agent/sources/tracked_file.h"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>

#include "agent/sources/reading_order.h"

namespace dingle {
namespace {

class TrackedFileTest : public testing::Test {
 protected:
  std::string path = testing::TempDir() + "/tracked-" + std::to_string(::getpid());
  std::unique_ptr<TrackedFile> file;

  void write(const std::string& text) {  // in place: the inode stays
    const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    ASSERT_EQ(::write(fd, text.data(), text.size()), static_cast<ssize_t>(text.size()));
    ::close(fd);
  }
  void open() {
    const int fd = ::open(path.c_str(), O_RDONLY);
    struct stat info;
    ASSERT_EQ(::fstat(fd, &info), 0);
    file = std::make_unique<TrackedFile>(fd, info.st_dev, info.st_ino);
  }
  void TearDown() override { ::unlink(path.c_str()); }
};

TEST_F(TrackedFileTest, GrowingFileHolds) {
  write("one\n");
  open();
  file->advance(4);
  write("one\ntwo\n");
  EXPECT_EQ(file->verify(), TrackedFile::Holds::yes);
  EXPECT_EQ(file->checkpoint.position, 4u);
}

TEST_F(TrackedFileTest, OtherContentsAreAnotherStream) {
  write("one\n");
  open();
  file->advance(4);
  write("uno\ndos\n");
  EXPECT_EQ(file->verify(), TrackedFile::Holds::no);
  const std::uint64_t before = file->checkpoint.stream;
  file->restart();
  EXPECT_NE(file->checkpoint.stream, before);
  EXPECT_EQ(file->checkpoint.position, 0u);
}

TEST_F(TrackedFileTest, ANewFileIsTheSameStreamForEveryCopyOfASpool) {
  write("one\n");
  open();
  auto stream = [](const TrackedFile& f, std::uint64_t spool) {
    return stream_of_file(f.fd(), spool, "gate");
  };
  const std::uint64_t first = stream(*file, 7);
  EXPECT_NE(stream(*file, 8), first);
  EXPECT_NE(stream_of_file(file->fd(), 7, "radio"), first) << "another source reads it, too";
  ::unlink(path.c_str());
  const auto deleted = std::move(file);
  write("one\n");
  open();
  EXPECT_NE(stream(*file, 7), first);
  struct statx info {};
  if (::statx(deleted->fd(), "", AT_EMPTY_PATH, STATX_BTIME, &info) != 0 || !(info.stx_mask & STATX_BTIME))
    GTEST_SKIP() << "the file system keeps no times of birth";
  EXPECT_EQ(stream(*deleted, 7), first);
}

TEST_F(TrackedFileTest, GoesBackToTheHighestRungThatHolds) {
  const std::string half(200'000, 'a');
  write(half + std::string(200'000, 'b'));
  open();
  file->advance(100'000);
  file->advance(200'000);
  file->advance(400'000);
  write(half + std::string(100'000, 'c'));  // shortened by a power failure, and gone on
  EXPECT_EQ(file->verify(), TrackedFile::Holds::yes);
  EXPECT_EQ(file->checkpoint.position, 200'000u);
  EXPECT_EQ(file->checkpoint.base, 200'000u) << "positions in the stream only grow";
}

TEST_F(TrackedFileTest, RungsAreFewAndSpread) {
  write(std::string(3'000'000, 'x'));
  open();
  for (std::uint64_t position = 1000; position <= 3'000'000; position += 1000) file->advance(position);
  EXPECT_LE(file->checkpoint.rungs.size(), 10u);
  EXPECT_LT(file->checkpoint.rungs.front().position, 100'000u);
  EXPECT_EQ(file->checkpoint.rungs.back().position, 3'000'000u);
  ASSERT_EQ(file->checkpoint.growth.size(), 6u);
  EXPECT_EQ(file->checkpoint.growth.back().position, 1u << 20);
}

TEST_F(TrackedFileTest, CheckpointComesBackAndDamageDoesNot) {
  FileCheckpoint c{"/logs/a.log", 77, 5, 1000, 3, true, {{10, 1}, {1000, 2}}, {{500, 7}}};
  auto back = FileCheckpoint::decode(c.encode());
  ASSERT_TRUE(back);
  EXPECT_EQ(back->path, c.path);
  EXPECT_EQ(back->stream, 77u);
  EXPECT_EQ(back->base, 5u);
  EXPECT_EQ(back->begun, 3u);
  EXPECT_TRUE(back->skipping);
  EXPECT_EQ(back->rungs.back().hash, 2u);
  EXPECT_EQ(back->all_rungs(), (std::vector<Rung>{{10, 1}, {500, 7}, {1000, 2}}));
  const std::string bytes = c.encode();
  for (std::size_t n = 0; n < bytes.size(); ++n)
    EXPECT_FALSE(FileCheckpoint::decode(bytes.substr(0, n))) << n;
}

// What an earlier program kept is no reason to read a file again.
TEST(FileCheckpoints, OfAnEarlierProgramAreRead) {
  const auto earlier = FileCheckpoint::decode(std::string("\x01\x01/\x07\0\0\0\0\0\0\0\x05\x09\0\0", 15));
  ASSERT_TRUE(earlier);
  EXPECT_EQ(earlier->path, "/");
  EXPECT_EQ(earlier->stream, 7u);
  EXPECT_EQ(earlier->position, 9u);
  EXPECT_EQ(earlier->begun, 0u);
}

TEST(ReadingOrder, RotatedFilesAreOneFamily) {
  EXPECT_EQ(family_of("/logs/gate.log"), "/logs/gate");
  EXPECT_EQ(family_of("/logs/gate.log.1"), "/logs/gate");
  EXPECT_EQ(family_of("/logs/gate-2026-11-01.log"), "/logs/gate");
  EXPECT_NE(family_of("/logs/gate.log"), family_of("/old/gate.log"));
  EXPECT_NE(family_of("/logs/gate.log"), family_of("/logs/crane.log"));
  EXPECT_EQ(family_of("/logs/2026.log"), "/logs/");
  EXPECT_EQ(family_of("gate"), "gate");
}

TEST(ReadingOrder, KnownFilesThenOldOnesThenNewOnes) {
  const std::string folder = testing::TempDir() + "/order-" + std::to_string(::getpid());
  std::filesystem::create_directories(folder);
  TrackedFiles files;
  auto add = [&](const std::string& name, int modified, bool known) {
    const std::string path = folder + "/" + name;
    const int fd = ::open(path.c_str(), O_RDWR | O_CREAT, 0600);
    const timespec times[2] = {{modified, 0}, {modified, 0}};
    ::futimens(fd, times);
    auto file = std::make_unique<TrackedFile>(fd, 1, files.size());
    file->checkpoint.path = path;
    file->family = family_of(path);
    file->known = known;
    files.emplace(std::pair{1, files.size()}, std::move(file));
  };
  auto order = [&] {
    std::string names;
    std::vector<TrackedFile*> all;
    for (const auto& [id, file] : files) all.push_back(file.get());
    for (TrackedFile* f : to_catch_up(all)) names += f->checkpoint.path.substr(folder.size() + 1) + " ";
    return names;
  };
  add("gate.log", 300, false);
  add("gate.log.2", 100, false);
  add("gate.log.1", 300, false);
  add("gate.log.3", 400, true);
  add("crane.log", 50, false);
  EXPECT_EQ(order(), "gate.log.3 crane.log gate.log.2 gate.log.1 gate.log ");
  add("gate.log.12", 300, false), add("gate.log.11", 300, false);
  for (auto& [id, file] : files)
    if (file->checkpoint.path.ends_with(".12")) file->moved = 1;
  EXPECT_EQ(order(), "gate.log.3 crane.log gate.log.2 gate.log.11 gate.log.12 gate.log.1 gate.log ");
  for (auto& [id, file] : files) file->catching_up = false;
  EXPECT_EQ(order(), "");
  for (auto& [id, file] : files) file->catching_up |= file->family == folder + "/crane";
  EXPECT_EQ(order(), "crane.log ");
  std::filesystem::remove_all(folder);
}

}  // namespace
}  // namespace dingle

// The files source alone: what it hands in, and what it keeps in the spool.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <chrono>
#include <condition_variable>
#include <filesystem>
#include <fstream>
#include <mutex>
#include <set>
#include <thread>

#include "agent/configuration.h"
#include "agent/sources/source.h"
#include "agent/sources/tracked_file.h"
#include "spool/memory.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

// Takes everything at once.
class Taking final : public Intake {
 public:
  explicit Taking(Spool& spool) : spool_(spool), problems_([](const Problems::Problem&, Problems::Said) {}) {}
  bool submit(SourceBatch batch) override {
    spool_.note(batch.changes);
    std::lock_guard lock(mutex_);
    for (const SourceLine& line : batch.lines)
      lines_.emplace_back(line.text), streams_.push_back(batch.stream);
    return true;
  }
  Taken submit_durably(SourceBatch batch, std::chrono::nanoseconds, std::chrono::nanoseconds) override {
    return submit(std::move(batch)) ? Taken::durable : Taken::stopping;
  }
  Spool& spool() override { return spool_; }
  Problems& problems() override { return problems_; }
  const std::string& data_folder() const override { return data; }
  std::string data = "/nowhere";
  void leave(const std::string&, std::shared_ptr<void>) override {}
  std::shared_ptr<void> take_over(const std::string&) override { return nullptr; }

  std::vector<std::string> lines() const {
    std::lock_guard lock(mutex_);
    return lines_;
  }
  std::vector<std::uint64_t> streams() const { return streams_; }

 private:
  Spool& spool_;
  Problems problems_;
  mutable std::mutex mutex_;
  std::vector<std::string> lines_;
  std::vector<std::uint64_t> streams_;
};

class FilesSourceTest : public testing::Test {
 protected:
  const std::filesystem::path folder = testing::TempDir() + "files-source-" + std::to_string(::getpid());
  std::unique_ptr<Disk> disk = make_memory_disk();
  std::unique_ptr<Spool> spool;

  void SetUp() override {
    std::filesystem::create_directories(folder / "logs");
    SpoolSettings settings;
    settings.folder = "spool";
    settings.sync = SpoolSync::os;
    spool = std::move(*Spool::open(*disk, settings));
  }
  void TearDown() override { std::filesystem::remove_all(folder); }

  void append(const std::string& name, const std::string& text) {
    std::ofstream(folder / name, std::ios::app) << text;
  }
  // Runs the source on logs/*.log until it has looked and nothing is behind. The lines that it handed in.
  std::vector<std::string> read() {
    start();
    until([&] { return source->bytes_behind() == 0u; });
    return stop();
  }
  void start() {
    const std::string text = "version: 1\nsources: { s: { files: { paths: ['" + folder.string() + paths +
                             "']" + options +
                             " } } }\npipelines: { p: { from: [s], to: [d] } }\n"
                             "destinations: { d: { nowhere: {} } }\n";
    Findings findings(text);
    configuration = read_configuration(text, findings);
    ASSERT_TRUE(configuration) << (findings.all().empty() ? "" : findings.all()[0].message);
    intake = std::make_unique<Taking>(*spool);
    intake->data = folder / "data";
    source = configuration->sources[0].kind->make({configuration->sources[0], *intake});
    source->start();
  }
  std::vector<std::string> stop() {
    source->stop();
    source.reset();
    streams = intake->streams();
    return intake->lines();
  }
  template <class F>
  bool until(F holds, int seconds = 20) {
    for (int i = 0; i < 200 * seconds && !holds(); ++i) std::this_thread::sleep_for(5ms);
    return holds();
  }
  // Of what is wrong, all texts.
  std::string told() {
    std::string all;
    for (const auto& p : intake->problems().all()) all += p.about + " " + p.text + "\n";
    return all;
  }
  std::shared_ptr<const Configuration> configuration;
  std::unique_ptr<Taking> intake;
  std::unique_ptr<Source> source;
  std::string options;  // ", NAME: VALUE"
  std::string id_of(const std::string& name) {
    struct stat info {};
    EXPECT_EQ(::stat((folder / name).c_str(), &info), 0);
    return std::to_string(info.st_dev) + ":" + std::to_string(info.st_ino);
  }
  // As if the file had been read when its file system had another number.
  void renumber_device(const std::string& name, const std::string& device) {
    const std::string id = id_of(name), key = "file/s/" + id;
    const auto kept = spool->state(key);
    ASSERT_TRUE(kept);
    spool->note({{{key, "", true}, {"file/s/" + device + id.substr(id.find(':')), *kept, false}}, {}});
  }
  std::size_t kept() const { return spool->state_with_prefix("file/s/").size(); }
  std::vector<std::uint64_t> streams;
  std::string paths = "/logs/*.log";
};

using Lines = std::vector<std::string>;

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

// ---- rotation under load

class RotationTest : public FilesSourceTest {
 protected:
  std::vector<std::string> written;
  std::ofstream file;
  int n = 0;
  void SetUp() override {
    FilesSourceTest::SetUp();
    paths = "/logs/gate.log*";
    begin();
  }
  void begin() { file.open(folder / "logs/gate.log", std::ios::app); }
  void line() {
    written.push_back("line " + std::to_string(n++));
    file << written.back() << (n % 3 == 0 ? "\n  and more\n" : "\n") << std::flush;
  }
  void expect_all(std::size_t behind = 0) {
    file.close();
    EXPECT_TRUE(until([&] { return intake->lines().size() >= n + static_cast<std::size_t>(n) / 3; }))
        << intake->lines().size() << " of " << n << told();
    EXPECT_TRUE(until([&] { return source->bytes_behind() == behind; }));
    Lines lines = stop();
    if (options.empty()) std::erase(lines, "  and more");
    for (std::string& l : lines) l = l.substr(0, l.find('\n'));
    EXPECT_EQ(lines.size(), written.size());
    for (std::size_t i = 0; i < std::min(lines.size(), written.size()); ++i)
      ASSERT_EQ(lines[i], written[i]) << "of " << lines.size();
  }
};

TEST_F(RotationTest, WhoWritesOnToTheRenamedFileLosesNoOrder) {
  start();
  for (int i = 0; i < 60; ++i) {
    for (int k = 0; k < 20; ++k) line();
    std::filesystem::rename(folder / "logs/gate.log", folder / ("logs/gate.log." + std::to_string(1000 + i)));
    std::ofstream(folder / "logs/gate.log", std::ios::app);
    if (i % 3) std::this_thread::sleep_for(std::chrono::milliseconds(i % 7));
    for (int k = 0; k < 20; ++k) line();  // to the old one
    file.close();
    begin();
    EXPECT_TRUE(until([&] { return source->open() >= static_cast<std::uint64_t>(i) + 2; }));
  }
  line();
  expect_all();
}

TEST_F(RotationTest, TheLastEventOfARotatedFileIsNotLate) {
  options = ", join: { indented: true, wait: 1h }";
  start();
  for (int i = 0; i < 40; ++i) {
    for (int k = 0; k < 6; ++k) line();
    std::filesystem::rename(folder / "logs/gate.log", folder / ("logs/gate.log." + std::to_string(1000 + i)));
    file.close();
    begin();
    line();
    if (i % 3) std::this_thread::sleep_for(10ms);
  }
  EXPECT_TRUE(until([&] { return intake->lines().size() + 1 >= static_cast<std::size_t>(n); }))
      << intake->lines().size();
  Lines lines = stop();
  for (std::string& l : lines) l = l.substr(0, l.find('\n'));
  written.pop_back();  // the last one is open
  EXPECT_EQ(lines, written);
}

TEST_F(RotationTest, CopyAndTruncateWithTheCopyAmongThePathsDoublesNothing) {
  start();
  for (int i = 0; i < 40; ++i) {
    for (int k = 0; k < 200; ++k) line();
    EXPECT_TRUE(i % 4 != 0 || until([&] { return source->bytes_behind() == 0u; }));
    std::filesystem::copy_file(folder / "logs/gate.log",
                               folder / ("logs/gate.log." + std::to_string(1000 + i)));
    if (i % 3 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(5 * (i % 5)));
    std::filesystem::resize_file(folder / "logs/gate.log", 0);
    EXPECT_TRUE(until([&] { return source->open() >= static_cast<std::uint64_t>(i) + 2; }));
  }
  line();
  expect_all();
  EXPECT_GE(spool->counter("source/s/copies"), 5);
}

TEST_F(RotationTest, CopiedAndTruncatedWhileNobodyRead) {
  for (int k = 0; k < 500; ++k) line();
  start();
  EXPECT_TRUE(until([&] { return source->bytes_behind() == 0u && intake->lines().size() > 100; }));
  const Lines before = stop();
  for (int k = 0; k < 500; ++k) line();
  std::filesystem::copy_file(folder / "logs/gate.log", folder / "logs/gate.log.1");
  std::filesystem::resize_file(folder / "logs/gate.log", 0);
  for (int k = 0; k < 10; ++k) line();
  file.close();
  start();
  EXPECT_TRUE(until([&] { return source->bytes_behind() == 0u; }));
  Lines lines = before;
  for (const std::string& l : stop()) lines.push_back(l);
  std::erase(lines, "  and more");
  EXPECT_EQ(lines, written);
}

// What is never cut is another file, in the end; that is told.
TEST_F(RotationTest, ACopyBesideItsOriginalIsReadAsAnotherFile) {
  for (int k = 0; k < 9; ++k) line();
  start();
  EXPECT_TRUE(until([&] { return intake->lines().size() == 12; }));
  std::filesystem::copy_file(folder / "logs/gate.log", folder / "logs/gate.log.kept");
  EXPECT_TRUE(until([&] { return intake->lines().size() == 24; })) << told();
  EXPECT_NE(told().find("gate.log.kept: order holds what"), std::string::npos) << told();
  stop();
}

TEST_F(RotationTest, FilesThatMerelyBeginAlikeAreTwo) {
  const std::string head = "time,gauge,level,quality,and,some,more,columns\n";
  append("logs/gate.log.a", head + "1,saltholm,2.5\n");
  start();
  EXPECT_TRUE(until([&] { return intake->lines().size() == 3 - 1; }));
  append("logs/gate.log.b", head + "2,northquay,2.7\n");
  EXPECT_TRUE(until([&] { return intake->lines().size() == 4; }, 5))
      << "without waiting to the end of its patience";
  EXPECT_EQ(spool->counter("source/s/copies"), 0);
  stop();
}

TEST_F(RotationTest, AHoleIsPassedOver) {
  const std::string path = folder / "logs/gate.log";
  const int fd = ::open(path.c_str(), O_WRONLY);  // without O_APPEND
  const std::string first(700'000, 'x');
  ASSERT_EQ(::write(fd, (first + "\n").data(), first.size() + 1), static_cast<ssize_t>(first.size() + 1));
  start();
  EXPECT_TRUE(until([&] { return intake->lines().size() == 1; }));
  std::filesystem::resize_file(path, 0);
  EXPECT_TRUE(until([&] { return spool->counter("source/s/truncated") == 1; }));
  ASSERT_EQ(::write(fd, "second\nthird\n", 13), 13);
  ::close(fd);
  EXPECT_TRUE(until([&] { return intake->lines().size() == 3; })) << intake->lines().size();
  EXPECT_EQ(spool->counter("source/s/hole_bytes"), 700'001);
  const Lines lines = stop();
  EXPECT_EQ(Lines(lines.begin() + 1, lines.end()), (Lines{"second", "third"}));
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

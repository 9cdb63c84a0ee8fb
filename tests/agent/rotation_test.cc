// Files that are rotated while they are read.
#include <atomic>
#include <cstdlib>
#include <functional>
#include <random>

#include "core/time/instant.h"
#include "tests/agent/files_source.h"

namespace dingle {
namespace {

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
  // Files that it finds at its first look, and whose times are the same to the tick, may be of any order.
  ASSERT_TRUE(until([&] { return source->open() == 1; }));
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

// gate.log.10 is no older gate.log.1 for its name.
TEST_F(RotationTest, ALongerNumberIsNoRotatedName) {
  file.close();
  std::filesystem::remove(folder / "logs/gate.log");
  const auto now = std::filesystem::file_time_type::clock::now();
  int age = 8;
  for (const char* name : {"1", "2", "3", "10", "20", "21", "100"}) {
    const std::string path = std::string("logs/gate.log.") + name;
    append(path, std::string("line ") + name + "\n");
    std::filesystem::last_write_time(folder / path, now - std::chrono::seconds(age--));
    written.push_back(std::string("line ") + name);
  }
  EXPECT_EQ(read(), written);
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

// ---- rotation between any two looks

// What a program and a rotating tool do happens at random moments of the reader's round, at each of which it asks for the time.
class AnyMoment : public FilesSourceTest, public testing::WithParamInterface<int> {
 protected:
  std::mt19937 random{static_cast<unsigned>(GetParam())};
  std::vector<std::string> written;
  std::vector<std::function<void()>> steps;  // in turn
  std::atomic<std::size_t> done{0};
  std::string log;  // of the steps, and between which lines
  int fd = -1, rotated = 1000;

  unsigned below(unsigned n) { return random() % n; }
  void step(const char* what, std::function<void()> f) {
    steps.push_back([this, what, f = std::move(f)] {
      log += std::string(what) + " before line " + std::to_string(written.size()) + "\n";
      f();
    });
  }
  void begin() { fd = ::open((folder / "logs/gate.log").c_str(), O_WRONLY | O_APPEND | O_CREAT, 0600); }
  void lines() {
    step("write", [this] {
      std::string text;
      for (unsigned n = 1 + below(below(4) ? 5 : 400); n--;) {
        written.push_back("line " + std::to_string(100'000 + written.size()));
        text += written.back() + (options.empty() || below(3) ? "\n" : "\n  and more\n");
      }
      ASSERT_EQ(::write(fd, text.data(), text.size()), static_cast<ssize_t>(text.size()));
    });
  }
  void pause() {
    step("pause", [this] { std::this_thread::sleep_for(std::chrono::milliseconds(below(8))); });
  }
  void copy(std::uint64_t most) {  // goes on where the last one ended
    std::ifstream in(folder / "logs/gate.log");
    std::string bytes(std::istreambuf_iterator<char>(in), {});
    std::ofstream out(rotated_name(), std::ios::app);
    const std::uint64_t there = std::filesystem::file_size(rotated_name());
    out << bytes.substr(there, most);
  }
  void shift() {  // from the oldest on, each to the next greater number
    for (int i = 980; i <= rotated; ++i) {
      const std::string name = folder / "logs/gate.log.";
      std::error_code none;
      std::filesystem::rename(name + std::to_string(i), name + std::to_string(i - 1), none);
    }
  }
  std::filesystem::path rotated_name() { return folder / ("logs/gate.log." + std::to_string(rotated)); }
  void run() {
    paths = "/logs/gate.log*";
    begin();
    const unsigned every = 1 + below(6);
    const unsigned in_a_row = below(2) ? 0 : 1 + below(12);  // several rotations between two looks
    clock.asked = [this, every, in_a_row] {
      if (done == steps.size() || below(every) != 0) return;
      do {
        steps[done](), ++done;
        if (in_a_row != 0) std::this_thread::sleep_for(5ms);  // file times have no finer steps
      } while (done < steps.size() && in_a_row != 0 && below(in_a_row) != 0);
    };
    start();
    EXPECT_TRUE(until([&] { return done == steps.size() && intake->lines().size() >= written.size(); }))
        << intake->lines().size() << " of " << written.size() << "\n"
        << told() << log;
    EXPECT_TRUE(until([&] { return source->bytes_behind() == 0u; }));
    Lines lines = stop();
    ::close(fd);
    for (std::string& l : lines) l = l.substr(0, l.find('\n'));
    EXPECT_EQ(lines.size(), written.size()) << log;
    for (std::size_t i = 0; i < std::min(lines.size(), written.size()); ++i)
      ASSERT_EQ(lines[i], written[i]) << log;
  }
};

TEST_P(AnyMoment, CopiedAndTruncated) {
  if (GetParam() % 2) options = ", join: { indented: true, wait: 200ms }";
  for (int i = 0; i < 12; ++i) {
    for (unsigned n = below(4); n--;) below(3) ? lines() : pause();
    lines();
    if (below(2)) step("shift", [this] { shift(); });
    if (below(3) == 0) step("begin copy", [this] { copy(0); });
    if (below(2)) {  // a long copy
      step("copy some", [this] { copy(below(20'000)); });
      for (unsigned n = below(4); n--;) below(2) ? lines() : pause();
    }
    step("copy", [this] { copy(UINT64_MAX); });
    for (unsigned n = below(3); n--;) pause();
    if (below(4) == 0) step("clock", [this] { clock.wall_ahead += (below(2) ? 1 : -1) * 3600 * kSecond; });
    const bool late = below(3) == 0;  // it is found out long after
    step(late ? "cut and wait" : "cut", [this, late] {
      ++rotated;
      ASSERT_EQ(::ftruncate(fd, 0), 0);
      if (late) clock.steady_ahead += 11 * kSecond;
    });
  }
  lines();
  run();
}

TEST_P(AnyMoment, RenamedAndWrittenTo) {
  if (GetParam() % 2) options = ", join: { indented: true, wait: 200ms }";
  for (int i = 0; i < 12; ++i) {
    for (unsigned n = below(4); n--;) below(3) ? lines() : pause();
    step("rename", [this] { std::filesystem::rename(folder / "logs/gate.log", rotated_name()); });
    if (below(4) == 0) step("clock", [this] { clock.wall_ahead += (below(2) ? 1 : -1) * 3600 * kSecond; });
    const bool creates = below(2);
    if (creates) step("create", [this] { std::ofstream(folder / "logs/gate.log", std::ios::app); });
    for (unsigned n = below(4); n--;) below(3) ? lines() : pause();  // to the old one
    step("reopen", [this] {
      ++rotated;
      ::close(fd);
      begin();
    });
  }
  lines();
  run();
}

// By a program that waits for nobody: the file is cut while it is compared with its copy. All files have the same bytes at many
// places, so that the beginning of a copy may be one of several.
TEST_F(FilesSourceTest, CopiesAreTruncatedAtOnce) {
  paths = "/logs/gate.log*";
  const std::string path = folder / "logs/gate.log";
  const int fd = ::open(path.c_str(), O_WRONLY | O_APPEND | O_CREAT, 0600);
  start();
  Lines written;
  for (int round = 0; round < 24; ++round) {
    for (int piece = 0; piece < 2; ++piece) {
      std::string text;
      for (int n = 0; n < 500; ++n) {
        written.push_back(std::to_string(100'000 + written.size()) +
                          std::string(written.size() % 20 ? 30 : 20'000, 'x'));
        text += written.back() + "\n";
      }
      ASSERT_EQ(::write(fd, text.data(), text.size()), static_cast<ssize_t>(text.size()));
      if (piece == 0 || round % 2) until([&] { return intake->lines().size() >= written.size(); });
    }
    std::filesystem::copy_file(path, path + "." + std::to_string(round));
    ASSERT_EQ(::ftruncate(fd, 0), 0);
  }
  EXPECT_TRUE(
      until([&] { return intake->lines().size() >= written.size() && source->bytes_behind() == 0u; }));
  ::close(fd);
  const Lines lines = stop();
  ASSERT_EQ(lines.size(), written.size());
  EXPECT_EQ(lines, written);
}

// Thousands with one stem, as of numbered workers: they are no rotation, and comparing each with each would take minutes.
TEST_F(FilesSourceTest, ManyFilesOfOneStemAreReadAtOnce) {
  options = ", most_files: 5000";
  start();
  Lines written;
  for (int round = 0; round < 2; ++round)
    for (int i = 0; i < 3000; ++i) {
      written.push_back("crane " + std::to_string(i) + " round " + std::to_string(round));
      append("logs/crane" + std::to_string(i) + ".log", written.back() + "\n");
    }
  EXPECT_TRUE(until([&] { return intake->lines().size() >= written.size(); }, 60));
  Lines lines = stop();
  std::sort(lines.begin(), lines.end());
  std::sort(written.begin(), written.end());
  EXPECT_EQ(lines, written);
  EXPECT_EQ(told(), "");
}

// Among them a copy is still known as one.
TEST_F(FilesSourceTest, ACopyAmongManyFilesIsReadOnce) {
  paths = "/logs/crane*";
  for (int i = 0; i < 300; ++i)
    append("logs/crane" + std::to_string(i) + ".log", "line of " + std::to_string(i) + "\n");
  start();
  ASSERT_TRUE(until([&] { return intake->lines().size() == 300; }));
  append("logs/crane7.log", std::string(600, 'x') + "\n");
  ASSERT_TRUE(until([&] { return intake->lines().size() == 301; }));
  std::filesystem::copy_file(folder / "logs/crane7.log", folder / "logs/crane7.log.1");
  std::filesystem::resize_file(folder / "logs/crane7.log", 0);
  append("logs/crane7.log", "behind the cut\n");
  EXPECT_TRUE(until([&] { return intake->lines().size() >= 302 && source->bytes_behind() == 0u; }));
  EXPECT_EQ(stop().size(), 302u);
}

// The copy's place says that all before it is in the spool: it must not be there earlier than those lines.
TEST_F(FilesSourceTest, ACopysPlaceIsKeptBehindTheLinesBeforeIt) {
  paths = "/logs/gate.log*";
  append("logs/gate.log", "1\n2\n3\n");
  start();
  intake->holds = true;
  append("logs/gate.log", "4\n5\n");
  ASSERT_TRUE(until([&] { return intake->lines().size() == 5; }));
  std::filesystem::copy_file(folder / "logs/gate.log", folder / "logs/gate.log.1");
  std::filesystem::resize_file(folder / "logs/gate.log", 0);
  const std::string key = "file/s/" + id_of("logs/gate.log.1");
  EXPECT_TRUE(until([&] { return intake->holds_change_of(key); }));
  EXPECT_FALSE(spool->state(key));
  EXPECT_EQ(stop().size(), 5u);
}

// Nor the place behind a hole.
TEST_F(FilesSourceTest, APlaceBehindAHoleIsKeptBehindTheLinesBeforeIt) {
  append("logs/gate.log", "1\n2\n");
  start();
  ASSERT_TRUE(until([&] { return intake->lines().size() == 2; }));
  const std::string key = "file/s/" + id_of("logs/gate.log");
  ASSERT_TRUE(until([&] { return spool->state(key).has_value(); }));
  intake->holds = true;
  append("logs/gate.log", "3\n");
  ASSERT_TRUE(until([&] { return intake->lines().size() == 3; }));
  append("logs/gate.log", std::string(5000, '\0') + "4\n");
  ASSERT_TRUE(until([&] { return intake->lines().size() == 4; }));
  EXPECT_EQ(FileCheckpoint::decode(*spool->state(key))->position, 4u);
  stop();
}

int rounds() {
  const char* n = std::getenv("DINGLE_ROUNDS");
  return n ? std::atoi(n) : 25;
}
INSTANTIATE_TEST_SUITE_P(Rotation, AnyMoment, testing::Range(0, rounds()));

}  // namespace
}  // namespace dingle

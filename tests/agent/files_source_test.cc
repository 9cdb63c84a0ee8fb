// The files source alone: what it hands in, and what it keeps in the spool.
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
  explicit Taking(Spool& spool) : spool_(spool), problems_([](const Problems::Problem&, bool) {}) {}
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
    const std::string text = "version: 1\nsources: { s: { files: { paths: ['" + folder.string() + paths +
                             "'] } } }\npipelines: { p: { from: [s], to: [d] } }\n"
                             "destinations: { d: { nowhere: {} } }\n";
    Findings findings(text);
    auto configuration = read_configuration(text, findings);
    EXPECT_TRUE(configuration) << (findings.all().empty() ? "" : findings.all()[0].message);
    Taking intake(*spool);
    auto source = configuration->sources[0].kind->make({configuration->sources[0], intake});
    source->start();
    for (int i = 0; i < 1000 && source->bytes_behind() != 0u; ++i) std::this_thread::sleep_for(5ms);
    source->stop();
    streams = intake.streams();
    return intake.lines();
  }
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

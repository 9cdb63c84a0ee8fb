// A files source by itself, with a spool in memory.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
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

using namespace std::chrono_literals;

// Takes everything at once.
class Taking final : public Intake {
 public:
  explicit Taking(Spool& spool) : spool_(spool), problems_([](const Problems::Problem&, Problems::Said) {}) {}
  bool submit(SourceBatch batch) override {
    std::lock_guard lock(mutex_);
    ++batches_;
    if (holds)
      held_.push_back(batch.changes);
    else
      spool_.note(batch.changes);
    for (const SourceLine& line : batch.lines)
      lines_.emplace_back(line.text), streams_.push_back(batch.slices[line.slice].stream);
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
  std::size_t batches() const {
    std::lock_guard lock(mutex_);
    return batches_;
  }
  // What was taken is not yet in the spool, as if that were slow.
  std::atomic<bool> holds{false};
  bool holds_change_of(const std::string& key) const {
    std::lock_guard lock(mutex_);
    for (const Changes& c : held_)
      for (const StateChange& s : c.state)
        if (s.key == key) return true;
    return false;
  }

 private:
  std::vector<Changes> held_;
  std::size_t batches_ = 0;
  Spool& spool_;
  Problems problems_;
  mutable std::mutex mutex_;
  std::vector<std::string> lines_;
  std::vector<std::uint64_t> streams_;
};

class FilesSourceTest : public testing::Test {
 protected:
  const FileAccess* access = &system_file_access();
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
    source = configuration->sources[0].kind->make({configuration->sources[0], *intake, clock, *access});
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
    for (int i = 0; i < 200 * seconds; ++i) {
      if (holds()) return true;  // it may not hold a moment later
      std::this_thread::sleep_for(5ms);
    }
    return false;
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
  // The machine's, moved on by what a test says; the source's thread calls `asked` with every look.
  struct MovedClock final : Clock {
    std::function<void()> asked;
    std::atomic<std::int64_t> wall_ahead{0}, steady_ahead{0};
    std::int64_t wall() const override { return system_clock().wall() + wall_ahead; }
    std::int64_t steady() const override {
      if (asked) asked();
      return system_clock().steady() + steady_ahead;
    }
  } clock;
};

using Lines = std::vector<std::string>;

}  // namespace dingle

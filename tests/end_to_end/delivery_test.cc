// Exactly once and in order, whatever happens.
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <map>
#include <mutex>
#include <random>
#include <thread>

#include "tests/end_to_end/daemon.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

const char* kNumbered = R"(
sources:
  numbered: { files: { paths: ['{dir}/logs/*.log'] } }
pipelines:
  numbered:
    from: [numbered]
    steps:
      - parse: { templates: ['{file:word} {n:int} {:rest}'] }
      - drop: { where: "n >= 0 and file = 'noise'" }
    to: [store]
destinations:
  store: { index: { name: 'numbered-{day}' } }
)";

// Writes numbered lines to files, some thousand a second, until it is stopped; can rotate by renaming.
class Writer {
 public:
  Writer(Daemon& daemon, const std::vector<std::string>& names) : daemon_(daemon) {
    for (const std::string& name : names) threads_.emplace_back([this, name] { run(name); });
  }
  ~Writer() { stop(); }
  void stop() {
    stopping_ = true;
    for (auto& t : threads_) t.join();
    threads_.clear();
  }
  // Each file once, soon.
  void rotate() { ++rotations_; }
  // Waits until the daemon read of each file that is written now, after all rotations. A file that it never
  // saw under a name that its paths match is not to be rotated away. Few lines are written meanwhile.
  bool wait_until_seen() {
    slow_ = true;
    const bool seen = eventually([&] {
      std::lock_guard lock(mutex_);
      return std::all_of(current_.begin(), current_.end(), [&](const auto& c) {
        const auto& [name, file] = c;
        return file.rotations == rotations_ &&
               !daemon_.events("file = '" + name + "' and n >= " + std::to_string(file.first), 1).empty();
      });
    });
    slow_ = false;
    return seen;
  }
  std::atomic<int> rotate_every{0};  // lines; 0: never
  std::map<std::string, long> written;

 private:
  struct Current {
    long first = 0;  // line of it
    int rotations = 0;
  };
  void run(const std::string& name) {
    long n = 0, in_file = 0;
    int renamed = 0, rotations = 0;
    const auto begin_file = [&] {
      in_file = 0;
      std::lock_guard lock(mutex_);
      current_[name] = {n, rotations};
    };
    begin_file();
    std::ofstream out(daemon_.path(name + ".log"), std::ios::app);
    while (!stopping_) {
      for (int i = 0; i < 40; ++i, ++in_file) {
        out << name << ' ' << n++ << " and some more text to make the line longer\n";
        if (i % 10 == 9) out << "\n";
      }
      out.flush();
      if ((rotate_every && in_file >= rotate_every) || rotations < rotations_) {
        rotations = rotations_;
        out.close();
        std::filesystem::rename(daemon_.path(name + ".log"),
                                daemon_.path(name + ".old." + std::to_string(renamed++)));
        out.open(daemon_.path(name + ".log"), std::ios::app);
        begin_file();
      }
      std::this_thread::sleep_for(slow_ ? 200ms : 8ms);
    }
    std::lock_guard lock(mutex_);
    written[name] = n;
  }
  Daemon& daemon_;
  std::mutex mutex_;  // of `written` and `current_`
  std::map<std::string, Current> current_;
  std::atomic<int> rotations_{0};
  std::atomic<bool> slow_{false}, stopping_{false};
  std::vector<std::thread> threads_;
};

// Counts what is lost, doubled and out of order in the store, by asking for every number.
void expect_exactly_once(Daemon& daemon, const Writer& writer) {
  long lost = 0, doubled = 0, disordered = 0, all = 0;
  for (const auto& [name, written] : writer.written) {
    if (name == "noise") continue;
    all += written;
    long next = 0;
    for (long from = 0; from < written; from += 5000) {
      long last = -1;
      std::map<long, int> seen;
      for (const Json& e : daemon.events("file = '" + name + "' and n >= " + std::to_string(from) +
                                         " and n < " + std::to_string(from + 5000))) {
        const long n = e["n"];
        ++seen[n];
        disordered += n < last;
        last = n;
      }
      for (; next < std::min(written, from + 5000); ++next) {
        auto it = seen.find(next);
        if (it == seen.end())
          ++lost;
        else
          doubled += it->second - 1;
      }
    }
  }
  std::cout << all << " lines: lost " << lost << ", doubled " << doubled << ", out of order " << disordered
            << "\n";
  EXPECT_EQ(lost, 0);
  EXPECT_EQ(doubled, 0);
  EXPECT_EQ(disordered, 0);
  EXPECT_GT(all, 100);
}

void expect_balanced(const Json& status, const Writer& writer) {
  long lines = 0, noise = 0;
  for (const auto& [name, n] : writer.written) lines += n, noise += name == "noise" ? n : 0;
  const Json source = find(status["sources"], "numbered"), pipeline = find(status["pipelines"], "numbered"),
             store = find(status["destinations"], "store");
  EXPECT_TRUE(status["balanced"]) << status["balance"].dump();
  EXPECT_EQ(source["events"], lines);
  EXPECT_EQ(source["empty"], lines / 10);
  EXPECT_EQ(source["lines"], lines + lines / 10);
  EXPECT_EQ(pipeline["in"], lines);
  EXPECT_EQ(pipeline["dropped"], noise);
  EXPECT_EQ(pipeline["unmatched"], 0);
  EXPECT_EQ(store["in"], lines - noise);
  EXPECT_EQ(store["sent"], lines - noise);
  EXPECT_EQ(store["waiting"], 0);
}

TEST(Delivery, KilledAtRandomMomentsUnderLoad) {
  Daemon daemon(kNumbered);
  std::mt19937 random(7);
  Writer writer(daemon, {"alpha", "beta", "noise"});
  for (int i = 0; i < 6; ++i) {
    daemon.start();
    if (HasFatalFailure()) return;
    std::this_thread::sleep_for(std::chrono::milliseconds(random() % 600));
    daemon.kill();
  }
  writer.stop();
  daemon.start();
  const Json status = daemon.settled();
  expect_exactly_once(daemon, writer);
  expect_balanced(status, writer);
  EXPECT_EQ(daemon.terminate(), 0);
}

TEST(Delivery, RotationByRenameUnderLoad) {
  Daemon daemon(kNumbered);
  Writer writer(daemon, {"alpha", "beta"});
  daemon.start();
  ASSERT_TRUE(writer.wait_until_seen());
  writer.rotate_every = 1200;
  std::this_thread::sleep_for(2500ms);
  writer.stop();
  const Json status = daemon.settled();
  expect_exactly_once(daemon, writer);
  expect_balanced(status, writer);
}

TEST(Delivery, RotationWhileKilled) {
  Daemon daemon(kNumbered);
  Writer writer(daemon, {"alpha", "beta"});
  for (int i = 0; i < 4; ++i) {
    daemon.start();
    ASSERT_TRUE(writer.wait_until_seen());
    std::this_thread::sleep_for(300ms);  // so that there is something in between
    if (i % 2) {                         // seen or not seen, when it is killed
      writer.rotate();
      std::this_thread::sleep_for(i * 10ms);
      daemon.kill();
    } else {
      daemon.kill();
      writer.rotate();
    }
  }
  writer.stop();
  daemon.start();
  daemon.settled();
  expect_exactly_once(daemon, writer);
}

TEST(Delivery, RotationToNamesThatThePathsMatchWhileKilled) {
  std::string configuration = kNumbered;
  configuration.replace(configuration.find("*.log"), 5, "*");
  Daemon daemon(configuration);
  Writer writer(daemon, {"alpha", "beta"});
  writer.rotate_every = 1500;
  for (int i = 0; i < 8; ++i) {
    daemon.start();
    std::this_thread::sleep_for(250ms);
    daemon.kill();
    std::this_thread::sleep_for(100ms);
  }
  writer.stop();
  daemon.start();
  daemon.settled();
  expect_exactly_once(daemon, writer);
}

// Files that were never seen are read by age, not by name; those that were seen come before them.
TEST(Delivery, FilesThatRotatedWhileItWasDownAreReadInOrder) {
  std::string configuration = kNumbered;
  configuration.replace(configuration.find("*.log"), 5, "*");
  Daemon daemon(configuration);
  constexpr int kFiles = 13;  // newer ones have lower inodes, and names in no order
  for (int i = 0; i < kFiles; ++i) std::ofstream(daemon.dir + "/spare" + std::to_string(i)).close();
  int n = 0, spare = kFiles;
  auto write = [&] {
    if (!std::filesystem::exists(daemon.path("alpha.log")))
      std::filesystem::rename(daemon.dir + "/spare" + std::to_string(--spare), daemon.path("alpha.log"));
    std::string text;
    for (const int end = n + 300; n < end; ++n) text += "alpha " + std::to_string(n) + " text\n";
    daemon.write("alpha.log", text);
    std::this_thread::sleep_for(15ms);  // file times have ticks
  };
  auto rotate = [&](const std::string& to) {
    std::filesystem::rename(daemon.path("alpha.log"), daemon.path("alpha.old." + to));
  };
  for (const char* name : {"9", "5", "7"}) write(), rotate(name);
  write();
  for (int run = 0; run < 3; ++run) {
    daemon.start();
    daemon.settled();
    daemon.kill();
    write();
    for (const char* name : {"8", "1", "4"}) rotate(std::to_string(run) + name), write();
  }
  daemon.start();
  daemon.settled();
  int next = 0;
  for (const Json& e : daemon.events("n >= 0")) {
    ASSERT_EQ(e["n"], next) << e.dump();
    ++next;
  }
  EXPECT_EQ(next, n);
}

TEST(Delivery, StoreThatIsAwayIsWaitedFor) {
  Daemon daemon(kNumbered);
  std::filesystem::create_directories(daemon.dir + "/data/indexes");
  std::ofstream(daemon.dir + "/data/indexes/1") << "in the way";  // where the store's folder should be
  Writer writer(daemon, {"alpha", "beta"});
  daemon.start();
  Json during;
  EXPECT_TRUE(eventually([&] {
    during = daemon.status();
    const Json store = find(during["destinations"], "store");
    return store["failing"] == true && store["waiting"] > 0;
  })) << during.dump();
  EXPECT_NE(find(during["destinations"], "store")["circuit"], "closed");
  ASSERT_EQ(during["problems"].size(), 1u) << during["problems"].dump();
  EXPECT_EQ(during["problems"][0]["about"], "destination store");
  EXPECT_TRUE(during["balanced"]);
  daemon.kill();
  daemon.start();
  std::filesystem::remove(daemon.dir + "/data/indexes/1");
  writer.stop();
  const Json status = daemon.settled();
  EXPECT_TRUE(status["problems"].empty()) << status["problems"].dump();
  EXPECT_EQ(find(status["destinations"], "store")["circuit"], "closed");
  expect_exactly_once(daemon, writer);
  expect_balanced(status, writer);
}

TEST(Delivery, FullQueuePausesSourcesAndLosesNothing) {
  std::string configuration = kNumbered;
  const std::string from = "store: { index";
  configuration.replace(configuration.find(from), from.size(), "store: { queue: { limit: 1MiB }, index");
  Daemon daemon(configuration);
  std::filesystem::create_directories(daemon.dir + "/data/indexes");
  std::ofstream(daemon.dir + "/data/indexes/1") << "in the way";
  std::string text;
  for (int n = 0; n < 40000; ++n)
    text += "alpha " + std::to_string(n) + " and some more text to make the line longer, and longer still\n";
  daemon.write("alpha.log", text);
  daemon.start();
  Json during;
  EXPECT_TRUE(eventually([&] {
    during = daemon.status();
    // What is not in the spool is behind, wherever it is.
    const Json source = find(during["sources"], "numbered");
    if (!source["bytes_behind"].is_null()) {
      EXPECT_GE(source["bytes"].get<std::size_t>() + source["bytes_behind"].get<std::size_t>(), text.size());
    }
    return during["paused"] == true;
  }));
  EXPECT_GT(find(during["sources"], "numbered")["bytes_behind"], 0);
  // While it is full the configuration can still be changed.
  EXPECT_EQ(daemon.dingle({"reload"}).status, 0);
  std::filesystem::remove(daemon.dir + "/data/indexes/1");
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "store")["sent"], 40000);
  EXPECT_TRUE(status["balanced"]);
}

// What arrives for a destination while a reload removes it is delivered, or the reload is refused.
TEST(Delivery, AReloadThatRemovesADestinationLosesNothingForIt) {
  auto configuration = [](bool with) {
    return std::string(
               "sources:\n  s: { files: { paths: ['{dir}/logs/*.log'] } }\npipelines:\n  p: { from: [s], "
               "steps: [ ") +
           (with ? "{ set: { fields: { b: yes } } }" : "{ omit: { fields: [b] } }") + " ], to: [a" +
           (with ? ", b" : "") + "] }\ndestinations:\n  a: { index: { name: a } }\n" +
           (with ? "  b: { files: { path: '{dir}/out/b.ndjson' } }\n" : "");
  };
  Daemon daemon(configuration(true));
  daemon.start();
  std::atomic<bool> stopping{false};
  std::thread writer([&] {
    for (int n = 0; !stopping && n < 9000; ++n) {
      daemon.write("a.log", std::to_string(n) + "\n");
      if (n % 20 == 0) std::this_thread::sleep_for(2ms);
    }
  });
  int removed = 0;
  for (int i = 0; i < 30 || (removed == 0 && i < 300); ++i) {  // refused while something waits
    daemon.configure(configuration(i % 2 != 0));
    removed += daemon.dingle({"reload"}).status == 0 && i % 2 == 0;
  }
  stopping = true;
  writer.join();
  daemon.settled();
  daemon.terminate();
  std::size_t written = 0;
  for (const auto& entry : std::filesystem::directory_iterator(daemon.dir + "/out")) {
    const std::string text = read_file(entry.path());
    written += static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
  }
  daemon.start();
  EXPECT_EQ(daemon.events("b = 'yes'").size(), written);
  EXPECT_GT(removed, 0) << "nothing was tried";
}

TEST(Delivery, TwoPipelinesOneDestination) {
  Daemon daemon(R"(
sources:
  s: { files: { paths: ['{dir}/logs/*.log'] } }
pipelines:
  all: { from: [s], steps: [ parse: { templates: ['{n:int} {:rest}'] } ], to: [store, void] }
  some: { from: [s], where: "body like '% keep'", steps: [ parse: { templates: ['{n:int} {:rest}'] }, drop: { where: 'n < 500' } ], to: [store] }
destinations:
  store: { index: {} }
  void: { nowhere: {} }
)");
  std::string text;
  for (int n = 0; n < 2000; ++n) text += std::to_string(n) + (n % 2 ? " keep\n" : " skip\n");
  daemon.write("a.log", text);
  daemon.start();
  std::this_thread::sleep_for(30ms);
  daemon.kill();
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["pipelines"], "some")["in"], 1000);
  EXPECT_EQ(find(status["pipelines"], "some")["out"], 750);
  EXPECT_EQ(find(status["destinations"], "store")["sent"], 2750);
  EXPECT_EQ(find(status["destinations"], "void")["sent"], 2000);
  EXPECT_EQ(daemon.events("dingle.pipeline = 'some'").size(), 750u);
  EXPECT_EQ(daemon.events("dingle.pipeline = 'all'").size(), 2000u);
}

TEST(Delivery, TerminationDrains) {
  Daemon daemon(kNumbered);
  std::string text;
  for (int n = 0; n < 20000; ++n) text += "alpha " + std::to_string(n) + " x\n";
  daemon.write("alpha.log", text);
  daemon.start();
  EXPECT_EQ(daemon.terminate(), 0);
  daemon.start();
  const Json status = daemon.settled();
  EXPECT_EQ(find(status["destinations"], "store")["sent"], 20000);
}

TEST(Delivery, TerminationDoesNotWaitForWhatIsDown) {
  Daemon daemon(
      "sources: { gate: { files: { paths: ['{dir}/logs/*.log'] } } }\npipelines: { gate: { from: [gate], to: "
      "[away, here] } }\ndestinations: { away: { http: { url: 'http://127.0.0.1:" +
          std::to_string(free_port()) + "/' } }, here: { index: {} } }\n",
      "stop_within: 60s");
  daemon.write("gate.log", "ship=Gannet\nship=Puffin\n");
  daemon.start();
  daemon.problem();
  const auto begin = std::chrono::steady_clock::now();
  EXPECT_EQ(daemon.terminate(), 0);
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 30s);
  EXPECT_EQ(daemon.log().find("problem ended"), std::string::npos) << daemon.log();
  daemon.start();
  EXPECT_EQ(daemon.events().size(), 2u);
  EXPECT_EQ(find(daemon.status()["destinations"], "away")["waiting"], 2);
}

}  // namespace
}  // namespace dingle

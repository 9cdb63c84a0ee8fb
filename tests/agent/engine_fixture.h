// The engine with everything that it runs, in this process; lines are handed in as sources do.
#pragma once

#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <condition_variable>
#include <filesystem>
#include <fstream>
#include <map>

#include "agent/destinations/destination.h"
#include "agent/engine/engine.h"
#include "core/time/instant.h"
#include "store/search.h"
#include "tests/agent/named_counter.h"

namespace dingle {

using namespace std::chrono_literals;

// What a destination got, and what it says; by its name.
struct Taker {
  std::mutex mutex;
  std::condition_variable called_off;
  bool closed = false, hangs = false, cancelled = false;
  std::set<std::string> refuses;
  std::vector<std::string> bodies, names, ids;
  int made = 0;
  // How many it says that it stored; negative: it cannot tell.
  std::int64_t stored = -1;
};
inline Taker& taker(const std::string& name) {
  static std::mutex mutex;
  static std::map<std::string, Taker> all;
  std::lock_guard lock(mutex);
  return all[name];
}

class Takes final : public Destination {
 public:
  explicit Takes(Taker& t) : t_(t) {
    std::lock_guard lock(t_.mutex);
    ++t_.made;
  }
  Delivery deliver(std::span<const DeliveryEvent> events) override {
    std::unique_lock lock(t_.mutex);
    if (t_.hangs) {
      t_.called_off.wait_for(lock, 20s, [&] { return t_.cancelled; });
      return Delivery::retry("called off");
    }
    if (t_.closed) return Delivery::retry("closed");
    Delivery d;
    d.outcomes.clear();
    for (const DeliveryEvent& e : events) {
      const bool refused = t_.refuses.count(std::string(e.event.body)) != 0;
      d.outcomes.push_back(refused ? Outcome{Outcome::Form::refused, "no " + std::string(e.event.body)}
                                   : Outcome{});
      if (!refused) t_.bodies.emplace_back(e.event.body), t_.names.emplace_back(e.event.name);
      if (!refused) t_.ids.emplace_back(event_id(e.event).view());
      if (!refused && t_.stored >= 0) ++t_.stored;
    }
    if (t_.stored >= 0) d.stored = t_.stored;
    return d;
  }
  void cancel() override {
    std::lock_guard lock(t_.mutex);
    t_.cancelled = true;
    t_.called_off.notify_all();
  }

 private:
  Taker& t_;
};

// Not registered: tests look at all kinds that are. Its configuration is that of an index.
inline const DestinationKind kTakes{{"takes", "For tests.", "", {}},
                                    true,
                                    nullptr,
                                    [](const DestinationMaking& m) -> std::unique_ptr<Destination> {
                                      return std::make_unique<Takes>(taker(m.settings.name));
                                    }};

using Texts = std::vector<std::string>;

class EngineTest : public testing::Test {
 protected:
  const std::string name = testing::UnitTest::GetInstance()->current_test_info()->name();
  const std::string folder = testing::TempDir() + "engine-" + std::to_string(::getpid()) + "-" + name;
  std::unique_ptr<Engine> engine;
  const Clock* clock = &system_clock();
  std::string server, steps = "[]", more;
  std::string destinations = "{ d: { index: { name: 'n-{day}' }, retry: { first: 1ms, longest: 5ms } } }";
  std::uint64_t position = 0;
  bool stores = false;  // destinations are indexes

  void SetUp() override { std::filesystem::create_directories(folder); }
  void TearDown() override {
    for (const char* d : {"d", "e"}) {
      Taker& t = taker(d);
      std::lock_guard lock(t.mutex);
      t.closed = t.hangs = false;
    }
    engine.reset();
    std::filesystem::remove_all(folder);
    for (const char* d : {"d", "e"}) {
      Taker& t = taker(d);
      t.bodies.clear(), t.names.clear(), t.ids.clear(), t.refuses.clear(), t.made = 0, t.cancelled = false,
                                                                           t.stored = -1;
    }
  }
  std::shared_ptr<const Configuration> configuration(const std::string& to = "[d]",
                                                     const std::string& source = "s") {
    return with_pipelines("{ p: { from: [" + source + "], steps: " + steps + ", to: " + to + " } }", source);
  }
  std::shared_ptr<const Configuration> with_pipelines(const std::string& pipelines,
                                                      const std::string& source = "s") {
    const std::string text =
        "version: 1\nserver: { data: '" + folder + "/data'" + server + " }\nsources: { " + source +
        ": { files: { paths: ['" + folder + "/logs/*.log'] }" + more + " }, nobody: { files: { paths: ['" +
        folder + "/other/*.log'] } } }\npipelines: " + pipelines + "\ndestinations: " + destinations + "\n";
    Findings findings(text);
    const auto read = read_configuration(text, findings);
    EXPECT_TRUE(read) << text << (findings.all().empty() ? "" : findings.all()[0].message);
    auto changed = std::make_shared<Configuration>(*read);
    for (DestinationSettings& d : changed->destinations)
      if (!stores) d.kind = &kTakes;
    return changed;
  }
  void start(const std::string& to = "[d]") { start(configuration(to)); }
  void start(std::shared_ptr<const Configuration> configuration,
             std::shared_ptr<const Configuration> before = nullptr) {
    Engine::Former former;
    if (before) former = [before](const std::string&) { return before; };
    auto started = Engine::start(
        std::move(configuration), [](const Problems::Problem&, Problems::Said) {}, *clock, former);
    ASSERT_TRUE(started) << started.problem().message;
    engine = std::move(*started);
  }
  SourceBatch batch(const Texts& lines, std::int64_t observed = kDay, const std::string& source = "s") {
    std::string all;
    for (const std::string& line : lines) all += line;
    SourceBatch b;
    b.source = source;
    b.slices = {{7, std::make_shared<Resource>()}};
    auto buffer = std::make_shared<LineBuffer>(all.size());
    std::copy(all.begin(), all.end(), buffer->bytes.get());
    buffer->finish(all.size());
    std::size_t at = 0;
    for (const std::string& line : lines) {
      b.lines.push_back({{buffer->bytes.get() + at, line.size()}, position});
      at += line.size(), position += line.size() + 1;
    }
    b.bytes = all.size();
    b.buffer = buffer;
    b.observed = observed;
    if (engine)
      b.changes.counters.push_back({engine->spool().counter_id("source/" + source + "/events"),
                                    static_cast<std::int64_t>(lines.size())});
    return b;
  }
  static bool until(const std::function<bool()>& holds) {
    for (int i = 0; i < 4000; ++i) {
      if (holds()) return true;
      std::this_thread::sleep_for(5ms);
    }
    return false;
  }
  bool got(const Texts& bodies, const std::string& destination = "d") {
    return until([&] {
      std::lock_guard lock(taker(destination).mutex);
      return taker(destination).bodies == bodies;
    });
  }
  Texts bodies(const std::string& destination = "d") {
    std::lock_guard lock(taker(destination).mutex);
    return taker(destination).bodies;
  }
  void close(bool closed, const std::string& destination = "d") {
    std::lock_guard lock(taker(destination).mutex);
    taker(destination).closed = closed;
  }
  std::int64_t counter(const std::string& counted) { return named_counter(engine->spool(), counted); }
  Spool::Waiting waiting(const std::string& destination = "d") {
    return engine->spool().waiting(engine->spool().destination(destination));
  }
};

}  // namespace dingle

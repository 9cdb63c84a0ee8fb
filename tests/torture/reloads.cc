#include "tests/torture/reloads.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <map>
#include <random>
#include <thread>

#include "store/search.h"
#include "tests/end_to_end/daemon.h"
#include "tests/torture/counting.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {

// A line a millisecond, into each of two files.
class TwoFiles {
 public:
  explicit TwoFiles(Daemon& daemon)
      : thread_([this, &daemon] {
          std::ofstream steady(daemon.path("steady.log"), std::ios::app),
              moving(daemon.path("moving.log"), std::ios::app);
          while (!stopping_) {
            steady << "steady " << n << std::endl;
            moving << "moving " << n++ << std::endl;
            std::this_thread::sleep_for(1ms);
          }
        }) {}
  long stop() {
    stopping_ = true;
    thread_.join();
    return n;
  }

 private:
  std::atomic<bool> stopping_{false};
  std::atomic<long> n{0};
  std::thread thread_;
};

struct Text {
  int round = 0;                         // of the pipeline that changes
  std::string source = "a", was_source;  // of the file that gets other names
  std::string destination = "c", was_destination;
  bool temporary = false;  // there are a source, a pipeline and a destination more
  std::string text() const {
    const auto was = [](const std::string& name) { return name.empty() ? "" : ", was: " + name; };
    std::string t = "sources:\n  steady: { files: { paths: ['{dir}/logs/steady.log'] } }\n  " + source +
                    ": { files: { paths: ['{dir}/logs/moving.log'] }" + was(was_source) + " }\n";
    if (temporary) t += "  temporary: { files: { paths: ['{dir}/logs/*.none'] } }\n";
    t += "pipelines:\n  steady: { from: [steady], steps: [ parse: { templates: ['{file:word} {n:int}'] } ], "
         "to: [store] }\n";
    t += "  of_" + source + ": { from: [" + source + "]" + was(was_source.empty() ? "" : "of_" + was_source) +
         ", steps: [ parse: { templates: ['{file:word} {n:int}'] }, set: { fields: { round: " +
         std::to_string(round) + " } } ], to: [" + destination + "] }\n";
    if (temporary) t += "  temporary: { from: [temporary, steady], to: [passing] }\n";
    t += "destinations:\n  store: { index: { name: steady } }\n  " + destination +
         ": { index: { name: moving }" + was(was_destination) + " }\n";
    if (temporary) t += "  passing: { index: { name: passing } }\n";
    return t;
  }
};

struct Seen {
  std::map<std::string, std::vector<long>> numbers;  // in the order of the log, by file
  double longest_gap = 0;                            // seconds between two readings of the steady file
};

Seen read_all(const Daemon& daemon) {
  std::vector<std::shared_ptr<Store>> owners;
  std::vector<const Store*> stores;
  for (const auto& folder : std::filesystem::directory_iterator(daemon.dir + "/data/indexes")) {
    owners.push_back(Store::at(folder.path()));
    stores.push_back(owners.back().get());
  }
  Query query;
  query.indexes = {"steady", "moving"};
  Scanned scanned;
  std::vector<std::pair<EventOrder, Json>> all;
  for (const FoundEvent& e : find_events(stores, query, SIZE_MAX, false, scanned))
    all.emplace_back(e.order, Json::parse(e.json));
  std::sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  Seen seen;
  double before = 0;
  for (const auto& [order, e] : all) {
    seen.numbers[e["file"]].push_back(e["n"]);
    if (e["file"] != "steady") continue;
    const std::string at = e["observed_timestamp"];  // ...T10:00:00.123456789Z
    const double now = std::stod(at.substr(11, 2)) * 3600 + std::stod(at.substr(14, 2)) * 60 +
                       std::stod(at.substr(17, at.size() - 18));
    if (before != 0 && now > before) seen.longest_gap = std::max(seen.longest_gap, now - before);
    before = now;
  }
  return seen;
}

// One run; the changes are made by `change`, until it answers false.
template <class Change>
Seen run(Change change, Count& count, long& lines) {
  Daemon daemon("");
  Text text;
  daemon.configure(text.text());
  daemon.start();
  TwoFiles files(daemon);
  while (change(daemon, text)) {
  }
  std::this_thread::sleep_for(200ms);
  const long written = files.stop();
  lines = 2 * written;
  daemon.settled(120);
  const Json status = daemon.status();
  if (!status["balanced"]) std::cout << "NOT balanced: " << status["balance"].dump() << "\n", ++count.lost;
  const Seen seen = read_all(daemon);
  for (const char* name : {"steady", "moving"}) {
    const auto found = seen.numbers.find(name);
    std::size_t at = 0;
    add(count,
        count_numbers(
            written, [](long) { return true; },
            [&](long& n) {
              if (found == seen.numbers.end() || at == found->second.size()) return false;
              n = found->second[at++];
              return true;
            }),
        name);
  }
  return seen;
}

}  // namespace

int torture_reloads(int rounds, unsigned seed) {
  Count count;
  long lines = 0, more = 0;
  int quiet = 200;
  const double alone =
      run([&](Daemon&, Text&) { return std::this_thread::sleep_for(10ms), quiet-- > 0; }, count, lines)
          .longest_gap;
  for (const bool kills : {false, true}) {
    std::mt19937 random(seed);
    int round = 0, refused = 0, killed = 0;
    std::map<std::string, int> done;
    const Seen seen = run(
        [&](Daemon& daemon, Text& text) {
          if (round++ == rounds / 2) return false;
          const Text before = text;
          const unsigned kind = random() % 3, which = random() % 3;
          const bool broken = kind == 0;
          text.was_source = text.was_destination = "";
          if (kind == 1) text.round = round;
          if (kind == 2 && which == 0)
            text.was_source = text.source, text.source = text.source == "a" ? "b" : "a";
          if (kind == 2 && which == 1)
            text.was_destination = text.destination, text.destination = text.destination == "c" ? "d" : "c";
          if (kind == 2 && which == 2) text.temporary = !text.temporary;
          ++done[broken       ? "broken"
                 : kind == 1  ? "pipeline changed"
                 : which == 0 ? "source renamed"
                 : which == 1 ? "destination renamed"
                              : "added or removed"];
          daemon.configure(text.text() + (broken ? "pipelines: [\n" : ""));
          bool taken = !broken;
          if (kills && random() % 8 == 0) {
            ++killed;
            daemon.hang_up();
            std::this_thread::sleep_for(std::chrono::microseconds(random() % 20'000));
            daemon.kill();
            if (before.temporary && !text.temporary)
              taken = false;  // a start refuses to forget what waits, too
            daemon.configure((taken || broken ? text : before).text());
            daemon.start();
          } else if (daemon.dingle({"reload"}).status != 0) {
            refused += !broken;
            taken = false;
          }
          // What was refused is not what runs, and not what the next change begins with.
          if (!taken) daemon.configure((text = before).text());
          return true;
        },
        count, more);
    lines += more;
    for (const auto& [what, times] : done) std::cout << times << " x " << what << "\n";
    std::cout << refused << " refused for waiting events, " << killed << " kills\n";
    if (!kills)
      std::cout << fmt::format("longest gap of what did not change: {:.1f} ms; without changes {:.1f} ms\n",
                               1000 * seen.longest_gap, 1000 * alone);
  }
  std::cout << lines << " lines: " << count << "\n";
  return count.good() && !testing::Test::HasFailure() ? 0 : 1;
}

}  // namespace dingle

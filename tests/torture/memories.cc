#include "tests/torture/memories.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <chrono>
#include <filesystem>
#include <iostream>
#include <map>
#include <random>
#include <set>
#include <thread>

#include "agent/engine/engine.h"
#include "core/time/instant.h"
#include "tests/agent/named_counter.h"
#include "tests/end_to_end/daemon.h"
#include "tests/spool/faulty_disk.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

constexpr long kShips = 3;

// What the destination has: it recognises what is sent again, and is as durable as this process.
struct Taken {
  std::mutex mutex;
  LogNumber newest;
  std::uint32_t ordinal = 0;
  std::map<std::string, std::pair<long, long>> windows;  // by ship: events and the sum of their numbers
  std::map<std::string, std::set<long>> passed;          // by ship: keys that `unique` let pass
  long again = 0, sent = 0;                              // keys that passed twice; windows
  void take(const DeliveryEvent& e) {
    if (std::pair(e.number, e.event.ordinal) <= std::pair(newest, ordinal)) return;
    newest = e.number, ordinal = e.event.ordinal;
    const std::string ship(e.event.get(field_id("ship")).as_text());
    if (const Value total = e.event.get(field_id("total")); !total.absent()) {
      ++sent;
      windows[ship].first += e.event.get(field_id("dingle.stands_for")).as_integer();
      windows[ship].second += total.as_integer();
    } else {
      again += !passed[ship].insert(e.event.get(field_id("n")).as_integer()).second;
    }
  }
};
Taken* taken = nullptr;

class Takes final : public Destination {
 public:
  Delivery deliver(std::span<const DeliveryEvent> events) override {
    std::lock_guard lock(taken->mutex);
    for (const DeliveryEvent& e : events) taken->take(e);
    return {};
  }
};
const DestinationKind kTakes{
    {"takes", "For the torture.", "", {}},
    true,
    nullptr,
    [](const DestinationMaking&) -> std::unique_ptr<Destination> { return std::make_unique<Takes>(); }};

class Memories {
 public:
  Memories(unsigned seed, bool damage) : random_(seed), damage_(damage), folder_(make_folder()) {
    std::filesystem::create_directories(folder_ + "/data");
    taken = &taken_;
  }
  ~Memories() {
    engine_.reset();
    std::filesystem::remove_all(folder_);
  }

  bool run(int rounds) {
    start();
    for (round_ = 0; round_ < rounds && good_; ++round_) {
      const std::size_t fault = random_() % (damage_ ? 2 : std::size(kFaults));
      ++tried_[kFaults[fault]];
      write(20 + random_() % 150);
      switch (fault) {
        case 0: end(true); break;
        case 1: end(false); break;
        case 2: engine_->stop(5s), engine_.reset(); break;
        case 3: run_full(); break;
        case 4: mean_otherwise(); break;
        default: restore();
      }
      if (damage_ && random_() % 2) flip();
      if (!engine_) start();
    }
    settle();
    return told();
  }

 private:
  static constexpr const char* kFaults[] = {"power", "kill", "stop", "disk-full", "meaning", "restore"};

  std::shared_ptr<const Configuration> configuration() const {
    const std::string text = fmt::format(
        "version: 1\nserver: {{ data: '{}/data', workers: 3, spool: {{ sync: batch, limit: 64MiB }} }}\n"
        "sources: {{ s: {{ files: {{ paths: ['{}/none'] }} }} }}\n"
        "pipelines:\n"
        "  read: {{ from: [s], steps: [ parse: {{ templates: ['{{ship:word}} {{n:int}}'] }} ] }}\n"
        "  once: {{ from: [read], steps: [ unique: {{ by: [ship, n], within: 1000h }} ], to: [d] }}\n"
        "  sums: {{ from: [read], steps: [ fold: {{ by: [ship], window: {}, grace: 100ms, longest: 2s, "
        "most_windows: 2, "
        "values: {{ total: sum(n){} }} }} ], to: [d] }}\n"
        "destinations: {{ d: {{ index: {{}} , retry: {{ first: 1ms, longest: 5ms }} }} }}\n",
        folder_, folder_, "1s", otherwise_ ? ", greatest: max(n)" : "");
    Findings findings(text);
    auto read = read_configuration(text, findings);
    if (!read) throw std::runtime_error(findings.all().at(0).message);
    auto changed = std::make_shared<Configuration>(*read);
    for (DestinationSettings& d : changed->destinations) d.kind = &kTakes;
    return changed;
  }
  void wrong(const std::string& what) {
    good_ = false;
    std::cout << "round " << round_ << ": " << what << "\n";
  }
  void start() {
    auto started = Engine::start(
        configuration(), [](const Problems::Problem&, Problems::Said) {}, system_clock(),
        [this](const std::string&) { return configuration(); }, disk_);
    if (!started) return wrong(started.problem().message);
    engine_ = std::move(*started);
    for (const auto& p : engine_->problems().all()) {
      problems_.insert(p.about + ": " + p.text);
      if (p.about != "source s: paths") story_.push_back(fmt::format("{}: {}: {}", round_, p.about, p.text));
    }
    const Spool::Recovery& r = engine_->spool().recovery();
    std::string missing;
    for (const auto& [m, segments] : r.missing) missing += fmt::format(" {}-{}", m.first, m.last);
    story_.push_back(fmt::format("{}: epoch {}, records {} to {}, missing{}, cut {}, in {}, merged {}",
                                 round_, engine_->spool().identity().epoch, engine_->spool().first_record(),
                                 r.last_record, missing, r.cut_records, counter("pipeline/sums/in"),
                                 counter("pipeline/sums/merged")));
    const auto state = engine_->spool().state("next");
    next_ = state ? std::stol(*state) : 0;
  }
  // Batches of numbered lines, as a source hands them in: what is not in the spool is read again.
  void write(unsigned batches) {
    for (; batches-- && engine_;) {
      const long lines = static_cast<long>(1 + random_() % 40);
      std::string all;
      std::vector<std::size_t> ends;
      for (long n = next_; n < next_ + lines; ++n)
        all += fmt::format("ship{} {}", n % kShips, n), ends.push_back(all.size());
      auto buffer = std::make_shared<LineBuffer>(all.size());
      std::copy(all.begin(), all.end(), buffer->bytes.get());
      buffer->finish(all.size());
      SourceBatch b;
      b.source = "s";
      b.slices = {{7, std::make_shared<Resource>()}};
      std::size_t at = 0;
      for (const std::size_t end : ends) {
        b.lines.push_back(
            {{buffer->bytes.get() + at, end - at}, static_cast<std::uint64_t>(next_) + b.lines.size()});
        at = end;
      }
      b.bytes = all.size();
      b.buffer = buffer;
      b.observed = system_now() - static_cast<std::int64_t>(random_() % 3) * kSecond;
      b.changes.state.push_back({"next", std::to_string(next_ + lines), false});
      b.changes.counters.push_back({engine_->spool().counter_id("source/s/events"), lines});
      if (!engine_->submit(std::move(b))) return wrong("a batch is not taken");
      next_ += lines;
      if (random_() % 4 == 0) std::this_thread::sleep_for(std::chrono::microseconds(random_() % 4000));
      if (random_() % 16 == 0) engine_->tick_if_due();
    }
  }
  void end(bool power) {
    disk_.dead = true;
    engine_.reset();
    disk_.dead = false;
    if (power) disk_.lose_power(random_());
  }
  void run_full() {
    set_room(random_() % 20'000);
    std::thread soon([this, wait = random_() % 200] {
      std::this_thread::sleep_for(std::chrono::milliseconds(wait));
      set_room(UINT64_MAX);
    });
    write(20);
    soon.join();
  }
  void set_room(std::uint64_t bytes) {
    std::lock_guard lock(disk_.mutex);
    disk_.room = bytes;
  }
  // Under load, or while it is down.
  void mean_otherwise() {
    otherwise_ = !otherwise_;
    if (const std::string problem = engine_->reload(configuration()); !problem.empty()) wrong(problem);
    write(5);
  }
  // The whole machine goes back to a copy of it.
  void restore() {
    end(false);
    FaultyDisk saved;
    saved.copy(disk_);
    std::pair<LogNumber, std::uint32_t> newest{taken_.newest, taken_.ordinal};
    const auto windows = taken_.windows;
    const auto passed = taken_.passed;
    start();
    write(30);
    end(random_() % 2);
    {
      std::lock_guard lock(disk_.mutex);
      disk_.files.clear(), disk_.durable_names.clear();
    }
    disk_.copy(saved);
    std::tie(taken_.newest, taken_.ordinal) = newest;
    taken_.windows = windows, taken_.passed = passed;
  }
  void flip() {
    std::vector<std::shared_ptr<FaultyDisk::Inode>> files;
    std::vector<std::string> names;
    for (const auto& [path, inode] : disk_.files)
      if (!inode->now.empty()) files.push_back(inode), names.push_back(path.substr(folder_.size()));
    if (files.empty()) return;
    const std::size_t chosen = random_() % files.size();
    FaultyDisk::Inode& inode = *files[chosen];
    const std::size_t at = random_() % inode.now.size();
    story_.push_back(fmt::format("{}: {}: byte {} of {}", round_, names[chosen], at, inode.now.size()));
    inode.now[at] ^= static_cast<char>(1 << random_() % 8);
    inode.durable = inode.now;
    ++flips_;
  }
  std::int64_t counter(const std::string& name) const { return named_counter(engine_->spool(), name); }
  // By how much what was folded differs from what became of it.
  std::int64_t off() const {
    return counter("pipeline/sums/merged") - counter("pipeline/sums/stood_for") -
           counter("pipeline/sums/given_up");
  }
  // All windows are sent, all is delivered.
  void settle() {
    const std::uint32_t d = engine_->spool().destination("d");
    for (int i = 0; i < 3000; ++i) {
      engine_->tick_if_due();
      if (off() == 0 && counter("source/s/events") == counter("pipeline/read/in") &&
          engine_->spool().waiting(d).events == 0)
        return;
      std::this_thread::sleep_for(10ms);
    }
    wrong("it does not settle");
  }
  // What would explain an end that is not in order.
  void tell_counters() const {
    for (const auto& [name, value] : engine_->spool().view().counters)
      std::cout << name << ": " << value << "\n";
  }
  bool told() {
    long events = 0, sum = 0, passed = 0;
    for (const auto& [ship, w] : taken_.windows) events += w.first, sum += w.second;
    for (const auto& [ship, keys] : taken_.passed) passed += static_cast<long>(keys.size());
    for (const auto& p : engine_->problems().all()) problems_.insert(p.about + ": " + p.text);
    const long unbalanced = counter("source/s/unbalanced") + counter("ticks_unbalanced") + off();
    for (const auto& [fault, times] : tried_) std::cout << times << " x " << fault << "\n";
    std::cout << fmt::format(
        "{} lines: {} folded into {} windows, their sum {} of {}; unique: {} passed, {} twice; {} given up, "
        "{} "
        "damaged, {} off the balance; {} bytes turned over, {} problems told\n",
        next_, events, taken_.sent, sum, next_ * (next_ - 1) / 2, passed, taken_.again,
        counter("pipeline/sums/given_up"),
        counter(counter_of_destination(engine_->spool().destination("d"), "damaged")), unbalanced, flips_,
        problems_.size());
    for (const std::string& what : story_) std::cout << what << "\n";
    if (off() != 0 || !good_) tell_counters();
    if (damage_) {
      // What a turned bit takes is gone; nothing else is, and that it went was told.
      const bool missing = events != next_ || passed != next_ || taken_.again != 0;
      return good_ && (!missing || !problems_.empty());
    }
    return good_ && events == next_ && sum == next_ * (next_ - 1) / 2 && passed == next_ &&
           taken_.again == 0 && unbalanced == 0 && counter("pipeline/sums/given_up") == 0;
  }

  std::mt19937_64 random_;
  const bool damage_;
  const std::string folder_;
  FaultyDisk disk_;
  Taken taken_;
  std::unique_ptr<Engine> engine_;
  std::map<std::string, int> tried_;
  std::set<std::string> problems_;
  std::vector<std::string> story_;  // what was turned over, and what was told of it
  long next_ = 0;
  int round_ = 0, flips_ = 0;
  bool otherwise_ = false, good_ = true;
};

}  // namespace

bool torture_memories(int rounds, unsigned seed, bool damage) { return Memories(seed, damage).run(rounds); }

}  // namespace dingle

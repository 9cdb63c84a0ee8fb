// Drives the real programs through faults, and counts in the destinations what is lost, doubled and out of
// order.
//
// A poster numbers the lines that it posts, and posts again what was not answered. A writer numbers every line of four files, one of them hostile, and rotates them; one agent sends three of them to its index, to the
// store of another dingled, to PostgreSQL (through a proxy), to an HTTP service (through another), and to files. Half of the
// fourth is taken by a pipeline, the rest from the leftovers. What all of them make is passed on, each number once, and folded: the
// sums over all windows are to be those of the data. The lines of two files carry times that go by faster than ours, one an hour
// behind the other: windows over both are sent in parts.
// Each round applies one fault, chosen by the seed. A constraint in PostgreSQL refuses one line in 5000:
// those must be dead letters, and nothing else.
#pragma once

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/mman.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iostream>
#include <map>
#include <random>
#include <set>

#include "store/search.h"
#include "tests/end_to_end/proxy.h"
#include "tests/end_to_end/servers.h"
#include "tests/torture/counted_event.h"
#include "tests/torture/counting.h"
#include "tests/torture/faults.h"
#include "tests/torture/flips.h"
#include "tests/torture/outage.h"
#include "tests/torture/poster.h"
#include "tests/torture/power.h"
#include "tests/torture/reloads.h"
#include "tests/torture/setting.h"
#include "tests/torture/troubled_service.h"
#include "tests/torture/writer.h"

namespace dingle {

using namespace std::chrono_literals;

constexpr long kPoison = 5000;  // one line in so many is refused by PostgreSQL

class Torture {
 public:
  Torture()
      : service_proxy_(service_.port()),
        postgres_proxy_(postgres_.port()),
        remote_(kRemote, "agents: { torture: { file: '{dir}/token' } }"),
        daemon_("") {
    const int port = free_port();
    remote_.arguments = {"--listen", "127.0.0.1:" + std::to_string(port)};
    for (const Daemon* d : {&remote_, &daemon_})
      std::ofstream(d->dir + "/token") << "torture-0123456789abcdef0123456789";
    remote_.start();
    configuration_ = kConfiguration;
    replace("{remote}", "http://127.0.0.1:" + std::to_string(port));
    replace("{postgres}", postgres_.connect(postgres_proxy_.port()));
    replace("{port}", std::to_string(posting_));
    replace("{service}", "http://127.0.0.1:" + std::to_string(service_proxy_.port()) + "/");
    daemon_.configure(configuration_);
    postgres_.query(
        "CREATE TABLE numbered(id bigserial, time timestamptz, body text, fields jsonb, stream bigint, "
        "position bigint, file "
        "text, n bigint CHECK (n % " +
        std::to_string(kPoison) + " <> " + std::to_string(kPoison - 1) + "))");
    const std::string path = daemon_.dir + "/faults";
    const int fd = ::open(path.c_str(), O_RDWR | O_CREAT, 0600);
    if (::ftruncate(fd, sizeof(Faults)) != 0) std::abort();
    faults_ =
        static_cast<Faults*>(::mmap(nullptr, sizeof(Faults), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0));
    ::close(fd);
    daemon_.environment = {{"LD_PRELOAD", std::string(DINGLE_BINARIES) + "/libdingle_faults.so"},
                           {"DINGLE_FAULTS", path}};
  }
  ~Torture() { ::munmap(faults_, sizeof(Faults)); }

  using Fault = std::function<void(Torture&, std::mt19937&)>;
  static const std::map<std::string, Fault>& faults();

  int run(int rounds, unsigned seed, const std::string& only) {
    std::mt19937 random(seed);
    std::vector<std::string> names;
    for (const auto& [name, fault] : faults())
      if (only.empty() || only == name || (only == "past" && is_of_past(name))) names.push_back(name);
    std::map<std::string, int> applied;
    Story story(daemon_.dir + "/story");
    Writer writer(daemon_, story);
    writer_ = &writer;
    daemon_.start();
    Poster poster(posting_);
    for (int round = 0; round < rounds; ++round) {
      const std::string& name = names[random() % names.size()];
      ++applied[name];
      story.tell(name);
      faults().at(name)(*this, random);
      story.tell(name + " is over");
      pause(random, 400);
    }
    calm();
    writer.stop();
    poster.stop();
    for (int i = 0; i < 3000 && find(daemon_.status()["pipelines"], "sums")["held"] != 0; ++i)
      std::this_thread::sleep_for(10ms);
    end_jobs();
    const Json status = daemon_.settled(300);
    for (const auto& [name, n] : applied) std::cout << n << " x " << name << "\n";
    return check(status, writer, poster);
  }

 private:
  // What repairs what is stored, and what may come between.
  static bool is_of_past(const std::string& name) {
    return name == "import" || name == "rerun" || name == "erase" || name == "disk-full" || name == "fsync";
  }
  static void pause(std::mt19937& random, unsigned most) {
    std::this_thread::sleep_for(std::chrono::milliseconds(random() % most));
  }
  void replace(const std::string& what, const std::string& with) {
    for (std::size_t at; (at = configuration_.find(what)) != std::string::npos;)
      configuration_.replace(at, what.size(), with);
  }
  void toggle(const std::string& one, const std::string& other) {
    const bool there = configuration_.find(other) != std::string::npos;
    const std::string from = there ? other : one;
    configuration_.replace(configuration_.find(from), from.size(), there ? one : other);
  }
  void calm() {
    faults_->failing_syncs = faults_->disk_full = faults_->slow_microseconds = 0;
    faults_->clock_seconds = 0;
    service_.answering = 200;
    for (FaultyProxy* p : {&service_proxy_, &postgres_proxy_})
      p->stalling = p->refusing = false, p->bytes_left = -1;
  }

  // Waits until the number of a destination satisfies the condition.
  void wait_for(const char* destination, const char* what, const std::function<bool(long)>& condition) {
    for (int i = 0; i < 2000; ++i) {
      if (condition(find(daemon_.status()["destinations"], destination)[what])) return;
      std::this_thread::sleep_for(10ms);
    }
    ADD_FAILURE() << destination << ": " << what << " does not get there";
  }
  long restored(const char* destination) {
    return find(daemon_.status()["destinations"], destination)["restored"];
  }
  // An agent that ends before it noticed begins with an empty spool: it can only report the gap.
  void wait_until_restored(const char* destination, long before) {
    wait_for(destination, "restored", [&](long times) { return times > before; });
  }
  void wait_until_sent(const char* destination) {
    const long before = find(daemon_.status()["destinations"], destination)["sent"];
    wait_for(destination, "sent", [&](long sent) { return sent > before; });
  }

  // The spool is copied, and the copy runs as well, reading the same files. It must be refused by whoever has
  // heard of the original.
  void run_a_copy(std::mt19937& random) {
    writer_->may_truncate = false;
    std::this_thread::sleep_for(2s);  // what was cut is noticed
    daemon_.kill();
    std::string configuration = configuration_;
    for (std::size_t at; (at = configuration.find("{dir}/logs")) != std::string::npos;)
      configuration.replace(at, 5, daemon_.dir);
    const std::string port = ":" + std::to_string(posting_) + "'";
    configuration.replace(configuration.find(port), port.size(), ":0'");
    Daemon copy(configuration);
    std::filesystem::copy(daemon_.dir + "/data", copy.dir + "/data",
                          std::filesystem::copy_options::recursive);
    std::filesystem::copy(daemon_.dir + "/token", copy.dir + "/token");
    daemon_.start();
    for (const char* destination : {"remote", "table"}) wait_until_sent(destination);
    copy.start();
    for (const char* destination : {"remote", "table"}) {
      std::string problem;
      for (int i = 0; i < 500 && problem.find("copy of this spool") == std::string::npos; ++i) {
        problem = find(copy.status()["destinations"], destination).value("reason", "");
        std::this_thread::sleep_for(10ms);
      }
      EXPECT_NE(problem.find("copy of this spool"), std::string::npos) << destination << ": " << problem;
    }
    pause(random, 300);
    copy.kill();
    writer_->may_truncate = true;
  }

  // What still waits was appended a moment ago, since the agent started: the spool keeps it for some time.
  void wait_until_near(const char* destination) {
    std::this_thread::sleep_for(1s);
    wait_for(destination, "waiting", [](long waiting) { return waiting < 1000; });
  }

  // What was delivered since the backup is gone from the destination, but still in the spool.
  void restore_table(std::mt19937& random) {
    wait_until_near("table");
    const long before = restored("table");
    // Locked in the agent's order. In another one either may be undone for a deadlock, and tables that were
    // saved would stay until the next round, which would go back to them.
    const std::vector<std::string> tables{"dingle_sender", "dingle_progress", "numbered"};
    const std::string lock =
        "BEGIN; LOCK TABLE dingle_sender, dingle_progress, numbered IN ACCESS EXCLUSIVE MODE;";
    std::string save = lock, restore = lock;
    for (const std::string& table : tables) {
      save += "CREATE TABLE saved_" + table + " AS SELECT * FROM " + table + ";";
      restore += "DELETE FROM " + table + "; INSERT INTO " + table + " SELECT * FROM saved_" + table +
                 "; DROP TABLE saved_" + table + ";";
    }
    postgres_.query(save + "COMMIT");
    wait_until_sent("table");
    pause(random, 600);
    postgres_proxy_.refusing = true;  // a server that is restored was down
    postgres_proxy_.cut_all();
    postgres_.query(restore + "COMMIT");
    postgres_proxy_.refusing = false;
    wait_until_restored("table", before);
  }
  void restore_store(std::mt19937& random) {
    wait_until_near("remote");
    const long before = restored("remote");
    const std::string data = remote_.dir + "/data", saved = remote_.dir + "/saved";
    remote_.kill();
    std::filesystem::copy(data, saved, std::filesystem::copy_options::recursive);
    remote_.start();
    wait_until_sent("remote");
    pause(random, 600);
    remote_.kill();
    std::filesystem::remove_all(data);
    std::filesystem::rename(saved, data);
    remote_.start();
    wait_until_restored("remote", before);
  }

  // In past.cc.
  void import_some(std::mt19937& random);
  long past_found();
  void rerun_all(std::mt19937& random);
  void erase_some(std::mt19937& random);
  void end_jobs();
  Count count_past();

  int check(const Json& status, const Writer& writer, const Poster& poster) {
    read_index(daemon_).swap(indexed_[daemon_.dir]);
    read_large();
    Count index, remote, table, service, archive, sums, all;
    long lines = 0, refused = 0, timed = 0, timed_sum = 0;
    auto every = [](long) { return true; };
    for (const auto& [name, written] : writer.written) {
      lines += written;
      if (name == "alpha" || name == "delta") timed += written, timed_sum += written * (written - 1) / 2;
      if (name == "delta") {
        for (const bool odd : {false, true}) {
          const std::string half = odd ? "odd" : "even";
          const auto is_its = [odd](long n) { return n % 2 == odd; };
          add(index, count_index(daemon_, half, written, is_its), half);
          add(sums, count_sums(half, written, is_its), half);
        }
        continue;
      }
      add(sums, count_sums(name, written, every), name);
      add(index, count_index(daemon_, name, written, every), name);
      add(remote, count_index(remote_, name, written, every), name);
      std::size_t at = 0;
      const auto rows = postgres_.query("SELECT n FROM numbered WHERE file = '" + name + "' ORDER BY id");
      add(table,
          count_numbers(
              written, [](long n) { return n % kPoison != kPoison - 1; },
              [&](long& n) {
                if (at == rows.size()) return false;
                n = std::stol(rows[at++][0]);
                return true;
              }),
          name);
      refused += written / kPoison;
      std::lock_guard lock(service_.mutex);
      std::vector<std::uint8_t> ids;  // it may come twice, but under one id
      for (long n = 0; n < written; ++n)
        ids.push_back(static_cast<std::uint8_t>(std::min<std::size_t>(255, service_.ids[name][n].size())));
      add(service, count_seen(ids, every), name);
      add(archive, count_archive(name, written, every), name);
    }
    add(sums, count_across(timed, timed_sum), "across");
    add(sums, count_sums(Poster::kName, poster.written, every), Poster::kName);
    const Count posted = count_index(daemon_, Poster::kName, poster.written, every);
    const Count past = count_past();
    const long letters = find(status["destinations"], "table")["letters"];
    std::cout << lines << " lines; PostgreSQL refused " << refused << ", dead letters " << letters << "\n"
              << "index:   " << index << "\nremote:  " << remote << "\ntable:   " << table
              << "\nservice: " << service << " (of one id)\narchive: " << archive << " (of one id)\n"
              << "posted:  " << posted << " (" << poster.written << " lines, " << poster.again
              << " batches once more)\n"
              << "past:    " << past << " (" << past_.size() << " lines imported, "
              << std::count(past_.begin(), past_.end(), false) << " erased)\n"
              << "sums:    " << sums << " (in " << folded_.size() << " windows, " << large_.size()
              << " large, and " << across_.size() << " of two files, " << windows_of_both()
              << " of these begun again by the one that is an hour behind)\n"
              << "balanced: " << (status["balanced"] ? "yes" : "NO " + status["balance"].dump()) << "\n";
    add(sums, count_large(), "large");
    for (const Count& c : {index, remote, table, service, archive, posted, past, sums}) add(all, c, "");
    all.where.clear();
    const bool good =
        all.good() && letters == refused && status["balanced"] && !testing::UnitTest::GetInstance()->Failed();
    if (!good) std::cout << status["problems"].dump(1) << "\n";
    EXPECT_TRUE(good);  // so that the folder is kept
    std::cout << all << "\n";
    return good ? 0 : 1;
  }
  // In the order of the log: event times may go back with the clock.
  std::map<std::string, std::vector<long>> read_index(const Daemon& daemon) {
    std::map<std::string, std::vector<long>> indexed;
    std::vector<std::shared_ptr<Store>> owners;
    std::vector<const Store*> stores;
    for (const auto& folder : std::filesystem::directory_iterator(daemon.dir + "/data/indexes")) {
      owners.push_back(Store::at(folder.path()));
      stores.push_back(owners.back().get());
    }
    Scanned scanned;
    CountedEvent event;
    std::vector<std::tuple<EventOrder, std::string, long>> all;
    for (const FoundEvent& e : find_events(stores, Query(), SIZE_MAX, false, scanned)) {
      event.read(e.json);
      if (event.has("folded") || event.has("across")) {
        (event.has("folded") ? folded_ : across_).push_back(Json::parse(e.json));
        continue;
      }
      all.emplace_back(e.order, event.text("file"), event.number("n"));
    }
    std::sort(all.begin(), all.end());
    for (const auto& [order, file, n] : all) indexed[file].push_back(n);
    return indexed;
  }
  Count count_index(const Daemon& daemon, const std::string& name, long written,
                    const std::function<bool(long)>& expected) {
    auto& indexed = indexed_[daemon.dir];
    if (indexed.empty()) indexed = read_index(daemon);
    const std::vector<long>& numbers = indexed[name];
    std::size_t at = 0;
    return count_numbers(written, expected, [&](long& n) {
      if (at == numbers.size()) return false;
      n = numbers[at++];
      return true;
    });
  }
  // What all windows come to, against the data.
  Count count_sums(const std::string& name, long written, const std::function<bool(long)>& expected) {
    long events = 0, total = 0, folded = 0, sum = 0;
    for (long n = 0; n < written; ++n)
      if (expected(n)) ++events, total += n;
    for (const Json& e : folded_) {
      if (e["file"] != name) continue;
      folded += e["folded"].get<long>(), sum += e["total"].get<long>();
    }
    Count c;
    c.lost = std::max(0L, events - folded), c.doubled = std::max(0L, folded - events);
    if (events == folded && total != sum) c.lost = c.doubled = 1;
    if (!c.good()) c.where = fmt::format(" {} of {} events, {} of {} in all", folded, events, sum, total);
    return c;
  }
  Count count_across(long events, long sum) {
    for (const Json& e : across_) events -= e["across"].get<long>(), sum -= e["total"].get<long>();
    Count c;
    c.lost = std::max(0L, events), c.doubled = std::max(0L, -events);
    if (events == 0 && sum != 0) c.lost = c.doubled = 1;
    if (!c.good()) c.where = fmt::format(" {} events, {} in all", events, sum);
    return c;
  }
  // Windows of which one part was begun by one file, another by the other.
  std::size_t windows_of_both() const {
    std::map<std::string, std::set<bool>> begun;
    for (const Json& e : across_) begun[e["timestamp"]].insert(e["begins"] == "alpha");
    return static_cast<std::size_t>(
        std::count_if(begun.begin(), begun.end(), [](const auto& w) { return w.second.size() == 2; }));
  }
  static std::string window_of(const Json& e) {
    return e["timestamp"].get<std::string>() + e["body"].get<std::string>() + e["dingle.part"].dump();
  }
  // Those for which the condition of `to` holds, and no other, are in the file too.
  Count count_large() {
    std::set<std::string> expected;
    for (const Json& e : folded_)
      if (e["folded"].get<long>() >= 100) expected.insert(window_of(e));
    Count c;
    for (const std::string& id : expected) c.lost += large_.count(id) == 0;
    for (const std::string& id : large_) c.doubled += expected.count(id) == 0;
    return c;
  }
  void read_large() {
    if (!std::filesystem::exists(daemon_.dir + "/large")) return;  // no window had so many
    for (const auto& file : std::filesystem::directory_iterator(daemon_.dir + "/large")) {
      std::ifstream in(file.path());
      for (std::string line; std::getline(in, line);) large_.insert(window_of(Json::parse(line)));
    }
  }
  // The files at least once, under one id each: what stands twice with one id counts once.
  Count count_archive(const std::string& name, long written, const std::function<bool(long)>& expected) {
    if (archived_.empty())
      for (const auto& file : std::filesystem::directory_iterator(daemon_.dir + "/archive")) {
        std::istringstream in(run_program({"/usr/bin/zstd", "-dcqf", file.path()}).out);
        CountedEvent event;
        for (std::string line; std::getline(in, line);)
          if (event.read(line))
            archived_[event.text("file")][event.number("n")].insert(event.text("dingle.id"));
      }
    const auto& ids = archived_[name];
    std::vector<std::uint8_t> seen;
    for (long n = 0; n < written; ++n) {
      auto it = ids.find(n);
      seen.push_back(
          it == ids.end() ? 0 : static_cast<std::uint8_t>(std::min<std::size_t>(255, it->second.size())));
    }
    return count_seen(seen, expected);
  }

  const int posting_ = free_port();
  std::string configuration_;
  std::vector<bool> past_;             // by number: it was imported, and not erased
  std::vector<Json> folded_, across_;  // events that stand for others
  std::set<std::string> large_;        // of them, in the file
  std::map<std::string, std::map<long, std::set<std::string>>> archived_;    // ids, by file and number
  std::map<std::string, std::map<std::string, std::vector<long>>> indexed_;  // by daemon and file
  TroubledService service_;
  PostgresServer postgres_;
  FaultyProxy service_proxy_, postgres_proxy_;
  Daemon remote_, daemon_;
  Faults* faults_ = nullptr;
  Writer* writer_ = nullptr;
};

}  // namespace dingle

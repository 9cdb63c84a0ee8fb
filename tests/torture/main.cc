// The faults of the torture, and its command line.
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
#include "tests/torture/counting.h"
#include "tests/torture/faults.h"
#include "tests/torture/flips.h"
#include "tests/torture/memories.h"
#include "tests/torture/outage.h"
#include "tests/torture/power.h"
#include "tests/torture/reloads.h"
#include "tests/torture/torture.h"
#include "tests/torture/troubled_service.h"
#include "tests/torture/writer.h"

namespace dingle {

const std::map<std::string, Torture::Fault>& Torture::faults() {
  static const std::map<std::string, Fault> all{
      {"kill-agent",
       [](Torture& t, std::mt19937&) {
         t.daemon_.kill();
         t.daemon_.start();
       }},
      {"kill-store",
       [](Torture& t, std::mt19937& r) {
         t.remote_.kill();
         pause(r, 200);
         t.remote_.start();
       }},
      {"kill-postgres",
       [](Torture& t, std::mt19937& r) {
         t.postgres_.kill();
         pause(r, 300);
         t.postgres_.start();
       }},
      {"cut",
       [](Torture& t, std::mt19937& r) {
         for (FaultyProxy* p : {&t.service_proxy_, &t.postgres_proxy_})
           p->bytes_left = static_cast<long>(r() % 300'000);
         pause(r, 600);
         t.calm();
       }},
      {"stall",
       [](Torture& t, std::mt19937& r) {
         FaultyProxy& p = r() % 2 ? t.service_proxy_ : t.postgres_proxy_;
         p.stalling = true;
         std::this_thread::sleep_for(r() % 4 ? 300ms : 2500ms);
         p.cut_all();
         t.calm();
       }},
      {"refuse",
       [](Torture& t, std::mt19937& r) {
         FaultyProxy& p = r() % 2 ? t.service_proxy_ : t.postgres_proxy_;
         p.refusing = true;
         p.cut_all();
         pause(r, 600);
         t.calm();
       }},
      {"answers",
       [](Torture& t, std::mt19937& r) {
         for (int i = 0; i < 3; ++i) {
           t.service_.answering = std::array{500, 503, 429, 0}[r() % 4];
           pause(r, 300);
         }
         t.calm();
       }},
      {"disk-full",
       [](Torture& t, std::mt19937& r) {
         t.faults_->disk_full = 1;
         pause(r, 500);
         if (r() % 3 == 0) t.daemon_.kill(), t.calm(), t.daemon_.start();
         t.calm();
       }},
      {"fsync",
       [](Torture& t, std::mt19937& r) {
         t.faults_->failing_syncs = static_cast<int>(1 + r() % 3);
         pause(r, 200);
         if (r() % 3 == 0) t.daemon_.kill();
         t.calm();
         if (!t.daemon_.runs()) t.daemon_.start();
       }},
      {"slow-disk",
       [](Torture& t, std::mt19937& r) {
         t.faults_->slow_microseconds = static_cast<int>(r() % 100'000);
         pause(r, 600);
         t.calm();
       }},
      {"clock",
       [](Torture& t, std::mt19937& r) {
         t.faults_->clock_seconds = -3600;
         pause(r, 300);
         t.daemon_.kill();
         t.daemon_.start();
         pause(r, 300);
         t.calm();
       }},
      {"copy", [](Torture& t, std::mt19937& r) { t.run_a_copy(r); }},
      {"backup", [](Torture& t, std::mt19937& r) { r() % 2 ? t.restore_table(r) : t.restore_store(r); }},
      {"import", [](Torture& t, std::mt19937& r) { t.import_some(r); }},
      {"rerun", [](Torture& t, std::mt19937& r) { t.rerun_all(r); }},
      {"erase", [](Torture& t, std::mt19937& r) { t.erase_some(r); }},
      {"rotate",
       [](Torture& t, std::mt19937& r) {
         t.postgres_proxy_.stalling = true;
         t.writer_->rotate = static_cast<int>(1 + r() % 6);
         pause(r, 300);
         t.calm();
       }},
      {"reload",
       [](Torture& t, std::mt19937& r) {
         t.service_.answering = 503;
         const std::string sound = t.configuration_;
         switch (r() % 4) {
           case 0: t.configuration_ += "# another\n"; break;
           case 1:  // what is folded means something else: windows are sent first
             t.toggle("total: sum(n) }", "total: sum(n), greatest: max(n) }");
             break;
           case 2:  // one step more, and less
             t.toggle("{ fields: { file: odd } }", "{ fields: { file: odd, half: second } }");
             break;
           default: t.configuration_ += "pipelines: [\n";  // broken: the old one goes on
         }
         t.daemon_.configure(t.configuration_);
         t.daemon_.hang_up();
         pause(r, 300);
         if (t.configuration_.ends_with("[\n")) t.daemon_.configure(t.configuration_ = sound);
         t.calm();
       }},
  };
  return all;
}

int main(int argc, char** argv) {
  CLI::App app("Drives dingled through faults and counts what is lost, doubled and out of order.");
  int rounds = 50;
  unsigned seed = 1;
  std::string only;
  std::vector<std::string> names{"power", "flips", "reloads", "memories", "damaged-memories", "past"};
  for (const auto& [name, fault] : Torture::faults()) names.push_back(name);
  app.add_option("--rounds", rounds, "Faults, one after another")
      ->capture_default_str()
      ->check(CLI::Range(1, 100000));
  app.add_option("--seed", seed, "Chooses them; the same seed, the same faults")->capture_default_str();
  app.add_option("--only", only, "Only this one")->check(CLI::IsMember(names));
  double minutes = 0;
  int rate = 20'000;
  app.add_option("--outage", minutes,
                 "Instead: an outage of PostgreSQL of so many minutes, under a steady rate");
  app.add_option("--rate", rate, "Lines a second, for --outage")->capture_default_str();
  CLI11_PARSE(app, argc, argv);
  testing::InitGoogleTest();
  if (minutes > 0) return run_outage(minutes, rate);
  if (only == "reloads") return torture_reloads(rounds, seed);
  if (only == "flips") return flip_bits(rounds, seed) ? 0 : 1;
  if (only == "memories" || only == "damaged-memories")
    return torture_memories(rounds, seed, only == "damaged-memories") ? 0 : 1;
  if (only == "power") {
    const PowerLosses p = lose_power(rounds, seed, PostgresServer::installed());
    std::cout << p.text() << "\n";
    return p.good() ? 0 : 1;
  }
  return Torture().run(rounds, seed, only);
}

}  // namespace dingle

int main(int argc, char** argv) { return dingle::main(argc, argv); }

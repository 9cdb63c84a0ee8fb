// What repairs what is stored, in the middle of the other faults: imports, reruns, erasures.
#include "tests/end_to_end/caller.h"
#include "tests/torture/torture.h"

namespace dingle {

// Sends a file of old lines through a pipeline; the agent is killed meanwhile.
void Torture::import_some(std::mt19937& random) {
  constexpr long kLines = 4000;
  const std::string path = daemon_.dir + "/past-" + std::to_string(past_.size());
  std::string text;
  for (long n = 0; n < kLines; ++n)
    text += fmt::format("past {} at 2026-11-{:02}T10:{:02}:{:02}Z\n", past_.size() + n, 1 + n / 500,
                        n / 60 % 60, n % 60);
  std::ofstream(path) << text;
  Ran ran;
  std::thread client([&] { ran = daemon_.dingle({"import", path, "--pipeline", "past"}); });
  std::this_thread::sleep_for(std::chrono::milliseconds(random() % 60));
  daemon_.kill();
  daemon_.start();
  client.join();
  // It may have been asked at the very moment at which there was no address.
  for (int i = 0; i < 10 && ran.status != 0 && ran.err.find("were imported before") == std::string::npos; ++i)
    ran = daemon_.dingle({"import", path, "--pipeline", "past"});
  EXPECT_TRUE(ran.status == 0 || ran.err.find("were imported before") != std::string::npos) << ran.err;
  past_.resize(past_.size() + kLines, true);
}

long Torture::past_found() {
  const Json found = Json::parse(
      Caller("http://" + daemon_.address(), daemon_.token()).get("/v1/timeline?destination=past").body,
      nullptr, false);
  return found.is_object() && found.contains("scanned") ? found["scanned"]["matched"].get<long>() : -1;
}
// Puts all of those through the pipeline as it is now, into other days and back; whoever searches meanwhile finds each once.
void Torture::rerun_all(std::mt19937& random) {
  end_jobs();
  toggle("set: { fields: { pass: first } }", "time: { field: at }, set: { fields: { pass: second } }");
  daemon_.configure(configuration_);
  daemon_.hang_up();
  pause(random, 300);
  wait_for("past", "waiting", [](long waiting) { return waiting == 0; });
  EXPECT_EQ(daemon_.dingle({"rerun", "--all", "--destination", "past", "--no-wait"}).status, 0);
  const long expected = std::count(past_.begin(), past_.end(), true);
  for (int i = 0; i < 8; ++i) {
    if (i == 4) {
      daemon_.kill();
      daemon_.start();
    }
    pause(random, 60);
    EXPECT_EQ(past_found(), expected) << "while they are moved";
  }
}

void Torture::erase_some(std::mt19937& random) {
  if (past_.empty()) return;
  end_jobs();
  const std::size_t from = random() % past_.size(), to = std::min(past_.size(), from + 50);
  const Ran ran = daemon_.dingle(
      {"erase", fmt::format("n >= {} and n < {}", from, to), "--destination", "past", "--no-wait"});
  EXPECT_EQ(ran.status, 0) << ran.err;
  std::fill(past_.begin() + static_cast<std::ptrdiff_t>(from),
            past_.begin() + static_cast<std::ptrdiff_t>(to), false);
  pause(random, 100);
  daemon_.kill();
  daemon_.start();
}
// Waits for the ends of jobs; what failed goes on.
void Torture::end_jobs() {
  Json jobs;
  for (int i = 0; i < 3000; ++i) {
    jobs = Json::parse(daemon_.dingle({"jobs", "-o", "json"}).out, nullptr, false);
    bool open = !jobs.is_array();
    for (const Json& job : open ? Json::array() : jobs) {
      if (job["state"] == "failed") daemon_.dingle({"jobs", "resume", job["id"].dump()});
      open |= job["state"] != "done";
    }
    if (!open) return;
    std::this_thread::sleep_for(20ms);
  }
  ADD_FAILURE() << "jobs do not come to their end: " << jobs.dump(1);
}

Count Torture::count_past() {
  std::vector<std::uint8_t> seen(past_.size(), 0);
  for (const long n : indexed_[daemon_.dir]["past"]) ++seen.at(static_cast<std::size_t>(n));
  Count c = count_seen(seen, [&](long n) { return past_[static_cast<std::size_t>(n)]; });
  for (std::size_t n = 0; n < past_.size(); ++n) c.doubled += !past_[n] && seen[n] != 0;  // it was erased
  return c;
}

}  // namespace dingle

#include "server/jobs/jobs.h"

#include <gtest/gtest.h>

#include <fstream>

#include "tests/agent/engine_fixture.h"

namespace dingle {
namespace {

// A kind of job that counts berths, as far as it is let.
std::atomic<int> may{0}, at_once{0}, most_at_once{0}, first_asked{-1};
std::atomic<bool> fails{false};
bool count_berths(JobWork& work, std::string& problem) {
  most_at_once = std::max<int>(most_at_once, ++at_once);
  struct End {
    ~End() { --at_once; }
  } end;
  work.total = work.request["berths"];
  int from = work.position.is_object() ? work.position["next"].get<int>() : 0;
  first_asked = from;
  while (from < static_cast<int>(work.total)) {
    if (work.ends()) return false;
    if (fails) return problem = "a berth is gone", false;
    if (may <= 0) {
      std::this_thread::sleep_for(1ms);
      continue;
    }
    --may;
    work.position = {{"next", ++from}};
    work.done = static_cast<std::uint64_t>(from);
    work.result = {{"counted", from}};
    work.reached();
  }
  return true;
}
const JobKindRegistration kCounts({"count berths", "berths", count_berths});
const JobKindRegistration kThrows({"throw", "", [](JobWork&, std::string&) -> bool {
                                     throw std::runtime_error("a file is damaged");
                                   }});

class JobsTest : public EngineTest {
 protected:
  void SetUp() override {
    EngineTest::SetUp();
    may = 0, fails = false, most_at_once = 0, first_asked = -1;
    start();
    open();
  }
  void TearDown() override {
    jobs.reset();
    EngineTest::TearDown();
  }
  void open(std::size_t most = Jobs::kMost) {
    std::string problem;
    jobs = std::make_unique<Jobs>(folder + "/jobs.sqlite", *engine, problem, most);
    EXPECT_EQ(problem, "");
    jobs->begin();
  }
  std::int64_t add(int berths, const char* kind = "count berths") {
    std::string problem;
    const std::int64_t id = jobs->add(kind, "at the quay", "owner", {{"berths", berths}}, problem);
    EXPECT_EQ(problem, "");
    return id;
  }
  Job job(std::int64_t id) {
    Job found;
    EXPECT_TRUE(jobs->get(id, found)) << id;
    return found;
  }
  bool reaches(std::int64_t id, JobState state) {
    return until([&] { return job(id).state == state; });
  }
  std::unique_ptr<Jobs> jobs;
};

TEST_F(JobsTest, RunsAndIsRemembered) {
  may = 5;
  const std::int64_t id = add(5);
  EXPECT_EQ(id, 1);
  EXPECT_TRUE(reaches(id, JobState::done));
  jobs.reset();
  open();
  const Job then = job(id);
  EXPECT_EQ(then.state, JobState::done);
  EXPECT_EQ(then.done, 5u);
  EXPECT_EQ(then.result["counted"], 5);
  EXPECT_EQ(then.what, "at the quay");
  EXPECT_EQ(then.by, "owner");
  EXPECT_GE(then.began, then.asked);
  EXPECT_GE(then.ended, then.began);
  EXPECT_EQ(add(0), 2);
}

TEST_F(JobsTest, StopsAndGoesOnWhereItWas) {
  may = 3;
  const std::int64_t id = add(5);
  EXPECT_TRUE(until([&] { return job(id).done == 3; }));
  EXPECT_NE(jobs->resume(id, "owner"), "") << "it runs";
  EXPECT_EQ(jobs->stop(id, "owner"), "");
  EXPECT_TRUE(reaches(id, JobState::stopped));
  EXPECT_NE(jobs->stop(id, "owner"), "") << "it is stopped already";
  may = 2;
  EXPECT_EQ(jobs->resume(id, "owner"), "");
  EXPECT_TRUE(reaches(id, JobState::done));
  EXPECT_EQ(first_asked, 3);
  EXPECT_EQ(job(id).done, 5u);
  EXPECT_NE(jobs->resume(id, "owner"), "") << "it is done";
}

TEST_F(JobsTest, OneThatWaitsIsStoppedAtOnce) {
  const std::int64_t first = add(1), second = add(1);
  EXPECT_TRUE(reaches(first, JobState::running));
  EXPECT_EQ(jobs->stop(second, "owner"), "");
  EXPECT_EQ(job(second).state, JobState::stopped);
  may = 1;
  EXPECT_TRUE(reaches(first, JobState::done));
  EXPECT_EQ(job(second).began, 0);
}

TEST_F(JobsTest, GoesOnAfterARestart) {
  may = 2;
  const std::int64_t running = add(4), waiting = add(1);
  EXPECT_TRUE(until([&] { return job(running).done == 2; }));
  jobs.reset();
  may = 3;
  open();
  EXPECT_TRUE(reaches(running, JobState::done));
  EXPECT_TRUE(reaches(waiting, JobState::done));
  EXPECT_EQ(job(running).done, 4u);
}

TEST_F(JobsTest, OneThatFailsSaysWhyAndMayGoOn) {
  fails = true;
  const std::int64_t id = add(1), broken = add(0, "throw"), unknown = add(0, "count birds");
  EXPECT_TRUE(reaches(id, JobState::failed));
  EXPECT_EQ(job(id).problem, "a berth is gone");
  EXPECT_TRUE(reaches(broken, JobState::failed));
  EXPECT_EQ(job(broken).problem, "a file is damaged");
  EXPECT_TRUE(reaches(unknown, JobState::failed));
  EXPECT_NE(job(unknown).problem.find("count birds"), std::string::npos);
  fails = false, may = 1;
  EXPECT_EQ(jobs->resume(id, "owner"), "");
  EXPECT_TRUE(reaches(id, JobState::done));
  EXPECT_EQ(job(id).problem, "");
}

TEST_F(JobsTest, OfOneKindOneRunsAtATime) {
  std::vector<std::int64_t> all;
  for (int i = 0; i < 6; ++i) all.push_back(add(1));
  may = 6;
  for (const std::int64_t id : all) EXPECT_TRUE(reaches(id, JobState::done));
  EXPECT_EQ(most_at_once, 1);
}

TEST_F(JobsTest, TooManyAreRefusedAndOldOnesForgotten) {
  jobs.reset();
  open(3);
  add(1);
  for (std::size_t i = 1; i < Jobs::kMostOpen; ++i) add(0);
  std::string problem;
  EXPECT_EQ(jobs->add("count berths", "", "owner", {}, problem), 0);
  EXPECT_NE(problem.find("100 jobs"), std::string::npos) << problem;
  EXPECT_EQ(jobs->list(1000).size(), 100u) << "none that is open is forgotten";
  may = 1;
  EXPECT_TRUE(until([&] { return job(100).state == JobState::done; }));
  EXPECT_EQ(add(0), 101);
  EXPECT_EQ(jobs->list(1000).size(), 3u);
  EXPECT_EQ(jobs->list(1000)[0].id, 101);
  EXPECT_EQ(jobs->forgotten(), 98u);
  jobs.reset();
  open(3);
  EXPECT_EQ(jobs->forgotten(), 98u) << "after a restart too";
}

TEST_F(JobsTest, ADamagedFileIsToldAndStartsNothing) {
  jobs.reset();
  std::ofstream(folder + "/jobs.sqlite") << std::string(8192, 'x');
  std::string problem;
  jobs = std::make_unique<Jobs>(folder + "/jobs.sqlite", *engine, problem);
  EXPECT_NE(problem.find("jobs cannot be read"), std::string::npos) << problem;
  EXPECT_EQ(jobs->add("count berths", "", "owner", {}, problem), 0);
  EXPECT_NE(problem.find("cannot be noted"), std::string::npos) << problem;
}

TEST_F(JobsTest, TellsHowFastItIsAndWhatIsLeft) {
  may = 2;
  const std::int64_t id = add(10);
  EXPECT_TRUE(until([&] { return job(id).done == 2; }));
  const Json told = json_of(job(id));
  EXPECT_GT(told["rate"].get<double>(), 0);
  EXPECT_NEAR(told["seconds_left"].get<double>(), 8 / told["rate"].get<double>(), 1e-6);
  EXPECT_EQ(told["unit"], "berths");
  EXPECT_TRUE(told["ended"].is_null());
}

}  // namespace
}  // namespace dingle

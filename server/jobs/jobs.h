// Jobs: long work that is started, watched, stopped, and gone on with, also over restarts.
//
// A kind of job registers what it does. It notes how far it is as it goes, in a file of SQLite,
//   job(id, kind, what, by, request, position, result, state, asked, began, ended, done, total, problem)
// so that whoever goes on with it begins there. Of one kind, one runs at a time.
#pragma once

#include <atomic>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "agent/engine/engine.h"
#include "agent/json.h"
#include "server/api.h"
#include "store/sqlite.h"

namespace dingle {

enum class JobState { waiting, running, stopping, stopped, done, failed };
const char* name_of(JobState state);

struct Job {
  std::int64_t id = 0;  // from 1, without gaps
  std::string kind, what, by;
  Json request, position, result;
  JobState state = JobState::waiting;
  std::int64_t asked = 0, began = 0, ended = 0;  // ns since 1970 UTC; 0: not yet
  std::uint64_t done = 0, total = 0;
  std::string problem;  // why it failed
  // While it runs: how much was done when, the newest 10 seconds.
  std::deque<std::pair<std::int64_t, std::uint64_t>> pace;
};

// What the work of a job is given, on a thread of its own.
class JobWork {
 public:
  virtual ~JobWork() = default;
  Engine& engine;
  const Json request;
  const std::string by;
  Json position;  // null at first; as it was when it was reached last
  Json result;
  std::uint64_t done = 0, total = 0;
  // Once it is done: what was asked for is not kept any more, nor what others were asked for with one of its texts, nor examples
  // that others found.
  bool leaves_nothing = false;
  virtual bool ends() const = 0;  // it is to come to its end, wherever it is
  virtual void reached() = 0;     // notes how far it is, durably

 protected:
  JobWork(Engine& its_engine, const Job& job)
      : engine(its_engine),
        request(job.request),
        by(job.by),
        position(job.position),
        result(job.result),
        done(job.done),
        total(job.total) {}
};

struct JobKind {
  const char *name, *unit;  // of what is done: "letters"
  // False: it is not at its end, since it was to end, or for the problem. May throw.
  bool (*run)(JobWork&, std::string& problem);
  const char* apart = "";  // of those that have the same here, one runs at a time
};

class JobKindRegistration {
 public:
  explicit JobKindRegistration(JobKind kind);
};
const std::vector<JobKind>& job_kinds();

// Thread-safe.
class Jobs {
 public:
  static constexpr std::size_t kMost = 1000;  // are remembered; the oldest that ended are forgotten
  static constexpr std::size_t kMostOpen = 100;

  // What is in the way of reading the file, in `problem`: then there are no jobs. Jobs that ran when the program ended wait.
  // The engine outlives it.
  Jobs(std::string path, Engine& engine, std::string& problem, std::size_t most = kMost);
  ~Jobs();
  void begin();
  void leave();  // all end where they are; they go on at the next start
  void join();   // returns when none runs

  // Its id; 0 with the problem: too many are open, or it cannot be noted.
  std::int64_t add(const std::string& kind, const std::string& what, const std::string& by, Json request,
                   std::string& problem);
  std::vector<Job> list(std::size_t most) const;  // the newest first
  bool get(std::int64_t id, Job& job) const;
  std::uint64_t forgotten() const;
  // It ends where it is, or goes on from there; the problem, or "".
  std::string stop(std::int64_t id, const std::string& by);
  std::string resume(std::int64_t id, const std::string& by);

 private:
  class Work;
  void work();
  void run(std::int64_t id);
  // Writes it as it is now; the problem, or "". Waits for the disk: not with `mutex_`, which those hold who must not wait.
  std::string note(std::int64_t id);
  std::string write(const Job& job);
  void forget(const std::vector<std::int64_t>& ids);
  void scrub(std::int64_t done);
  Connection& connection();
  const std::string path_;
  Engine& engine_;
  const std::size_t most_;
  std::mutex writing_;  // guards the file; taken before `mutex_`, so that what is written last is what is
  std::unique_ptr<Connection> connection_;
  mutable std::mutex mutex_;  // guards what follows
  std::condition_variable changed_;
  std::map<std::int64_t, Job> jobs_;
  std::atomic<bool> leaving_{false};
  std::vector<std::thread> threads_;
};

// As the API answers it, with its schema.
Json json_of(const Job& job);
Json job_schema();
// The answer to whoever asked for it: 202, and where it is. `id` and `problem`: of `add`.
HttpAnswer started_job(Api& api, std::int64_t id, const std::string& problem);

}  // namespace dingle

#include "server/jobs/jobs.h"

#include <unistd.h>

#include <algorithm>

#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/log.h"
#include "store/own_file.h"

namespace dingle {
namespace {

constexpr std::size_t kThreads = 4;
constexpr const char* kForgotten = "it is remembered no more";
constexpr std::int64_t kPace = 10 * kSecond;

std::vector<JobKind>& kinds() {
  static std::vector<JobKind> all;
  return all;
}

const JobKind* kind_of(const std::string& name) {
  for (const JobKind& kind : kinds())
    if (name == kind.name) return &kind;
  return nullptr;
}

constexpr std::pair<JobState, const char*> kStates[]{
    {JobState::waiting, "waiting"}, {JobState::running, "running"}, {JobState::stopping, "stopping"},
    {JobState::stopped, "stopped"}, {JobState::done, "done"},       {JobState::failed, "failed"}};

JobState state_of(const std::string& name) {
  for (const auto& [state, its_name] : kStates)
    if (name == its_name) return state;
  return JobState::failed;
}

bool is_open(const Job& job) {
  return job.state == JobState::waiting || job.state == JobState::running || job.state == JobState::stopping;
}

}  // namespace

const char* name_of(JobState state) {
  for (const auto& [its_state, name] : kStates)
    if (state == its_state) return name;
  return "";
}

JobKindRegistration::JobKindRegistration(JobKind kind) { kinds().push_back(kind); }
const std::vector<JobKind>& job_kinds() { return kinds(); }

// ---- what is noted

Connection& Jobs::connection() {
  if (!connection_)
    connection_ = open_own_file(
        path_,
        "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA secure_delete=ON;"
        "CREATE TABLE IF NOT EXISTS job(id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT, what TEXT, by TEXT, "
        "request TEXT, position TEXT, result TEXT, state TEXT, asked INTEGER, began INTEGER, ended INTEGER, "
        "done INTEGER, total INTEGER, problem TEXT)");
  return *connection_;
}

Jobs::Jobs(std::string path, Engine& engine, std::string& problem, std::size_t most)
    : path_(std::move(path)), engine_(engine), most_(most) {
  if (::access(path_.c_str(), F_OK) != 0) return;
  try {
    Statement s(
        connection().get(),
        "SELECT id, kind, what, by, request, position, result, state, asked, began, ended, done, total, "
        "problem FROM job");
    while (s.step()) {
      Job job{s.integer(0),
              s.blob(1),
              s.blob(2),
              s.blob(3),
              parse_json(s.blob(4)),
              parse_json(s.blob(5)),
              parse_json(s.blob(6)),
              state_of(s.blob(7))};
      job.asked = s.integer(8), job.began = s.integer(9), job.ended = s.integer(10);
      job.done = s.number(11), job.total = s.number(12), job.problem = s.blob(13);
      if (job.state == JobState::running) job.state = JobState::waiting;
      if (job.state == JobState::stopping) job.state = JobState::stopped;
      jobs_[job.id] = std::move(job);
    }
  } catch (const SqliteError& error) {
    problem = std::string("jobs cannot be read: ") + error.what();
    jobs_.clear();
  }
}

Jobs::~Jobs() {
  leave();
  join();
}

std::string Jobs::note(std::int64_t id) {
  std::lock_guard writing(writing_);
  Job job;
  return get(id, job) ? write(job) : "";
}

std::string Jobs::write(const Job& job) {
  try {
    Statement s(
        connection().get(),
        "INSERT INTO job(id, kind, what, by, request, position, result, state, asked, began, ended, done, "
        "total, problem) VALUES(?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14) "
        "ON CONFLICT(id) DO UPDATE SET what = ?3, request = ?5, position = ?6, result = ?7, state = ?8, "
        "began = ?10, ended = ?11, "
        "done = ?12, total = ?13, problem = ?14");
    const std::string request = dump(job.request), position = dump(job.position), result = dump(job.result);
    s.bind(1, job.id).bind_text(2, job.kind).bind_text(3, job.what).bind_text(4, job.by);
    s.bind_text(5, request).bind_text(6, position).bind_text(7, result).bind_text(8, name_of(job.state));
    s.bind(9, job.asked).bind(10, job.began).bind(11, job.ended).bind(12, job.done).bind(13, job.total);
    s.bind_text(14, job.problem).run();
    engine_.problems().clear("server: jobs");
    return "";
  } catch (const SqliteError& error) {
    const std::string problem = std::string("jobs cannot be noted: ") + error.what();
    engine_.problems().set("server: jobs",
                           problem + "; after a restart they go on where they were noted last");
    return problem;
  }
}

// Those that stay in the file after an error are there again after a restart, and go the next time.
void Jobs::forget(const std::vector<std::int64_t>& ids) {
  try {
    for (const std::int64_t id : ids) {
      Statement s(connection().get(), "DELETE FROM job WHERE id = ?");
      s.bind(1, id).run();
    }
  } catch (const SqliteError&) {
  }
}

// The texts between quotes in what was asked for.
std::vector<std::string> literals_of(const Json& request) {
  std::vector<std::string> all;
  const std::string where = request.value("where", "");
  constexpr std::size_t kShortest = 4;
  for (std::size_t at = 0; (at = where.find('\'', at)) != std::string::npos;) {
    const std::size_t end = where.find('\'', at + 1);
    if (end == std::string::npos) break;
    if (end - at > kShortest) all.push_back(where.substr(at + 1, end - at - 1));
    at = end + 1;
  }
  return all;
}

void Jobs::scrub(std::int64_t done) {
  std::vector<std::int64_t> changed;
  {
    std::lock_guard lock(mutex_);
    const std::vector<std::string> literals = literals_of(jobs_.at(done).request);
    for (auto& [id, job] : jobs_) {
      bool tells = job.result.is_object() && job.result.erase("examples") != 0;
      const std::string texts = dump(job.request) + job.what + dump(job.result) + job.problem;
      const bool names =
          !is_open(job) && std::any_of(literals.begin(), literals.end(), [&](const std::string& literal) {
            return texts.find(literal) != std::string::npos;
          });
      if (names)
        job.what = "by a condition that was erased", job.result = Json::object(), job.problem.clear();
      if (names || id == done) job.request = Json::object(), tells = true;
      if (tells) changed.push_back(id);
    }
  }
  for (const std::int64_t id : changed) note(id);
  std::lock_guard writing(writing_);
  try {
    for (int i = 0; i < 3 && !truncate_wal(connection()); ++i) {
    }
  } catch (const SqliteError&) {  // it is tidied up the next time
  }
}

// ---- what callers do

std::int64_t Jobs::add(const std::string& kind, const std::string& what, const std::string& by, Json request,
                       std::string& problem) {
  std::lock_guard writing(writing_);
  Job job;
  {
    std::lock_guard lock(mutex_);
    const auto open =
        std::count_if(jobs_.begin(), jobs_.end(), [](const auto& j) { return is_open(j.second); });
    if (static_cast<std::size_t>(open) >= kMostOpen)
      return problem = std::to_string(kMostOpen) + " jobs wait or run, which is the most", 0;
    job.id = jobs_.empty() ? 1 : jobs_.rbegin()->first + 1;
  }
  job.kind = kind, job.what = what, job.by = by;
  job.request = std::move(request);
  job.asked = system_now();
  problem = write(job);
  if (!problem.empty()) return 0;
  const std::int64_t id = job.id;
  std::vector<std::int64_t> gone;
  {
    std::lock_guard lock(mutex_);
    jobs_[id] = std::move(job);
    // The newest is never forgotten, so that its id is not given again.
    for (auto it = jobs_.begin(); jobs_.size() > most_ && it != jobs_.end();)
      if (is_open(it->second))
        ++it;
      else
        gone.push_back(it->first), it = jobs_.erase(it);
  }
  changed_.notify_all();
  forget(gone);
  return id;
}

std::vector<Job> Jobs::list(std::size_t most) const {
  std::lock_guard lock(mutex_);
  std::vector<Job> all;
  for (auto it = jobs_.rbegin(); it != jobs_.rend() && all.size() < most; ++it) all.push_back(it->second);
  return all;
}

bool Jobs::get(std::int64_t id, Job& job) const {
  std::lock_guard lock(mutex_);
  const auto it = jobs_.find(id);
  if (it == jobs_.end()) return false;
  job = it->second;
  return true;
}

std::uint64_t Jobs::forgotten() const {
  std::lock_guard lock(mutex_);
  return jobs_.empty() ? 0 : static_cast<std::uint64_t>(jobs_.rbegin()->first) - jobs_.size();
}

std::string Jobs::stop(std::int64_t id, const std::string& by) {
  std::unique_lock lock(mutex_);
  const auto found = jobs_.find(id);
  if (found == jobs_.end()) return kForgotten;
  Job& job = found->second;
  if (!is_open(job)) return std::string("it is ") + name_of(job.state) + " already";
  if (job.state == JobState::stopping) return "";
  job.state = job.state == JobState::running ? JobState::stopping : JobState::stopped;
  if (job.state == JobState::stopped) job.ended = system_now();
  const std::string kind = job.kind;
  lock.unlock();
  log_info("job is to stop", {{"job", std::to_string(id)}, {"kind", kind}, {"by", by}});
  note(id);
  return "";
}

std::string Jobs::resume(std::int64_t id, const std::string& by) {
  std::unique_lock lock(mutex_);
  const auto found = jobs_.find(id);
  if (found == jobs_.end()) return kForgotten;
  Job& job = found->second;
  if (job.state != JobState::stopped && job.state != JobState::failed)
    return std::string("it is ") + name_of(job.state);
  job.state = JobState::waiting;
  job.ended = 0;
  job.problem.clear();
  const std::string kind = job.kind;
  lock.unlock();
  log_info("job is to go on", {{"job", std::to_string(id)}, {"kind", kind}, {"by", by}});
  note(id);
  changed_.notify_all();
  return "";
}

// ---- work

class Jobs::Work final : public JobWork {
 public:
  Work(Jobs& jobs, const Job& job) : JobWork(jobs.engine_, job), jobs_(jobs), id_(job.id) {}
  bool ends() const override {
    if (jobs_.leaving_) return true;
    std::lock_guard lock(jobs_.mutex_);
    return jobs_.jobs_.at(id_).state == JobState::stopping;
  }
  void reached() override {
    store();
    jobs_.note(id_);
  }
  void store() {
    std::lock_guard lock(jobs_.mutex_);
    Job& job = jobs_.jobs_.at(id_);
    job.position = position, job.result = result;
    job.done = done, job.total = total;
    const std::int64_t now = system_now();
    job.pace.emplace_back(now, done);
    while (job.pace.size() > 2 && now - job.pace.front().first > kPace) job.pace.pop_front();
  }

 private:
  Jobs& jobs_;
  const std::int64_t id_;
};

void Jobs::run(std::int64_t id) {
  note(id);
  Job job;
  get(id, job);
  Work work(*this, job);
  const std::string text = std::to_string(id);
  log_info("job begins", {{"job", text}, {"kind", job.kind}, {"what", job.what}, {"by", job.by}});
  bool complete = false;
  std::string problem;
  try {
    const JobKind* its_kind = kind_of(job.kind);
    if (its_kind == nullptr)
      problem = "this program knows no job `" + job.kind + "`";
    else
      complete = its_kind->run(work, problem);
  } catch (const std::exception& error) {  // a damaged file, mostly
    problem = error.what();
  }
  work.store();
  if (complete && work.leaves_nothing) scrub(id);
  const bool goes_on = !complete && leaving_;  // at the next start, since it is noted as running
  {
    std::lock_guard lock(mutex_);
    Job& ended = jobs_.at(id);  // what is open is not forgotten
    ended.pace.clear();
    if (!goes_on) {
      ended.state = complete ? JobState::done : problem.empty() ? JobState::stopped : JobState::failed;
      ended.problem = problem;
      ended.ended = system_now();
    }
    job = ended;
  }
  note(id);
  if (goes_on) return;
  Json told = job.result;
  if (told.is_object()) told.erase("examples");  // events: no body stands in the log
  const std::string result = dump(told);
  if (job.state == JobState::failed)
    log_warning(
        "job failed",
        {{"job", text}, {"kind", job.kind}, {"by", job.by}, {"problem", problem}, {"result", result}});
  else
    log_info("job ended", {{"job", text},
                           {"kind", job.kind},
                           {"by", job.by},
                           {"state", name_of(job.state)},
                           {"result", result}});
}

void Jobs::work() {
  std::unique_lock lock(mutex_);
  while (!leaving_) {
    const auto apart = [](const std::string& kind) {
      const JobKind* its_kind = kind_of(kind);
      return its_kind != nullptr && *its_kind->apart ? std::string(its_kind->apart) : kind;
    };
    const auto runs = [&](const std::string& kind) {
      return std::any_of(jobs_.begin(), jobs_.end(), [&](const auto& j) {
        return apart(j.second.kind) == apart(kind) &&
               (j.second.state == JobState::running || j.second.state == JobState::stopping);
      });
    };
    const auto next = std::find_if(jobs_.begin(), jobs_.end(), [&](const auto& j) {
      return j.second.state == JobState::waiting && !runs(j.second.kind);
    });
    if (next == jobs_.end()) {
      changed_.wait(lock);
      continue;
    }
    const std::int64_t id = next->first;
    Job& job = next->second;
    job.state = JobState::running;
    const std::int64_t now = system_now();
    if (job.began == 0) job.began = now;
    job.pace = {{now, job.done}};
    lock.unlock();
    run(id);
    lock.lock();
    changed_.notify_all();
  }
}

void Jobs::begin() {
  for (std::size_t i = 0; i < kThreads; ++i) threads_.emplace_back([this] { work(); });
}

void Jobs::leave() {
  std::lock_guard lock(mutex_);
  leaving_ = true;
  changed_.notify_all();
}

void Jobs::join() {
  for (std::thread& thread : threads_) thread.join();
  threads_.clear();
}

// ---- answers

Json json_of(const Job& job) {
  const auto moment = [](std::int64_t at) { return at ? Json(format_rfc3339(at)) : Json(); };
  const JobKind* kind = kind_of(job.kind);
  Json j{{"id", job.id},
         {"kind", job.kind},
         {"what", job.what},
         {"by", job.by},
         {"state", name_of(job.state)},
         {"asked", moment(job.asked)},
         {"began", moment(job.began)},
         {"ended", moment(job.ended)},
         {"done", job.done},
         {"total", job.total},
         {"unit", kind ? kind->unit : ""},
         {"rate", nullptr},
         {"seconds_left", nullptr}};
  if (job.pace.size() > 1 && job.pace.back().first > job.pace.front().first) {
    const double rate = static_cast<double>(job.pace.back().second - job.pace.front().second) * 1e9 /
                        static_cast<double>(job.pace.back().first - job.pace.front().first);
    j["rate"] = rate;
    if (rate > 0 && job.total >= job.done)
      j["seconds_left"] = static_cast<double>(job.total - job.done) / rate;
  }
  if (!job.problem.empty()) j["problem"] = job.problem;
  j["result"] = job.result.is_object() ? job.result : Json::object();
  return j;
}

Json job_schema() {
  Json states = Json::array();
  for (const auto& [state, name] : kStates) states.push_back(name);
  return object_of({{"id", is_integer()},
                    {"kind", is_text()},
                    {"what", is_text()},
                    {"by", is_text()},
                    {"state", {{"enum", states}}},
                    {"asked", is_moment()},
                    {"began", or_null(is_moment())},
                    {"ended", or_null(is_moment())},
                    {"done", is_integer()},
                    {"total", is_integer()},
                    {"unit", is_text()},
                    {"rate", or_null(is_number())},
                    {"seconds_left", or_null(is_number())},
                    {"problem", is_text(), false},
                    {"result", map_of(is_anything())}});
}

}  // namespace dingle

// The engine: turns a configuration into running sources, pipelines and destinations, and swaps it while
// running.
//
//   sources -> submit (tickets) -> workers (pipelines, encoding) -> committer (in the order of tickets) ->
//   spool spool -> one delivery thread for each destination
//
// Every queue is bounded: when the spool is full the committer waits, then the workers, then the sources.
#pragma once

#include <condition_variable>
#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

#include "agent/configuration.h"
#include "agent/engine/delivery.h"
#include "agent/engine/live.h"
#include "agent/engine/unmatched.h"
#include "agent/problems.h"
#include "agent/sources/source.h"
#include "spool/spool.h"
#include "store/store.h"

namespace dingle {

class Engine final : public Intake {
 public:
  // Opens the spool in the configuration's data folder and starts everything.
  static Result<std::unique_ptr<Engine>> start(std::shared_ptr<const Configuration> configuration,
                                               Problems::Listener listener);
  ~Engine() override;

  // Swaps the configuration: sources pause for some milliseconds, destinations that did not change go on.
  // Answers what forbids it, or ""; then nothing was changed.
  std::string reload(std::shared_ptr<const Configuration> configuration);
  // Stops reading, empties the queues within the time, stops. What is left waits in the spool.
  void stop(std::chrono::nanoseconds within);

  // ---- for status and the API; thread-safe ----
  std::shared_ptr<const Configuration> configuration() const;
  struct DestinationState {
    std::string name, kind;
    std::uint32_t id = 0;
    DeliveryThread::Status delivery;
  };
  struct SourceState {
    std::string name, kind;
    std::uint64_t bytes_behind = 0, streams = 0;
  };
  std::vector<DestinationState> destinations() const;
  std::vector<SourceState> sources() const;
  Spool& spool() override { return *spool_; }
  Problems& problems() override { return problems_; }
  Live& live() { return live_; }
  const UnmatchedSample& unmatched() const { return unmatched_; }
  const NewestLines& newest_lines() const { return newest_lines_; }
  std::int64_t started() const { return started_; }
  bool paused() const { return paused_; }  // sources wait because a queue is full
  // The store of an `index` destination; of every one if the name is "".
  std::vector<std::shared_ptr<Store>> stores(const std::string& destination) const;

  bool submit(SourceBatch batch) override;

 private:
  // A configuration as it runs.
  struct Running {
    std::shared_ptr<const Configuration> configuration;
    std::vector<std::uint32_t> pipeline_ids;                  // by pipeline
    std::vector<std::vector<const DestinationSettings*>> to;  // by pipeline
    std::map<std::string, std::uint32_t> destination_ids;
    std::map<std::string, std::vector<std::size_t>> pipelines_of;  // by source
  };
  struct Job {
    std::uint64_t ticket = 0;
    SourceBatch batch;
    std::shared_ptr<const Running> running;
  };

  Engine(Problems::Listener listener) : problems_(std::move(listener)) {}
  std::shared_ptr<const Running> prepare(std::shared_ptr<const Configuration> configuration,
                                         std::string* problem);
  void start_destinations();
  void start_sources();
  void forget_old_steps();
  void quiesce();
  Spool::Append process(const Job& job);
  void run_worker();
  void run_committer();
  bool full() const;

  std::string data_;
  std::unique_ptr<Spool> spool_;
  std::unique_ptr<Letters> letters_;
  Problems problems_;
  Live live_;
  UnmatchedSample unmatched_;
  NewestLines newest_lines_;
  std::int64_t started_ = 0;

  std::mutex reloading_;              // held during reload and stop
  mutable std::mutex running_mutex_;  // guards what follows
  std::shared_ptr<const Running> running_;
  std::map<std::string, std::unique_ptr<Source>> sources_;
  struct Delivering {
    std::string written, kind;
    std::unique_ptr<DeliveryThread> thread;
  };
  std::map<std::string, Delivering> deliveries_;

  std::mutex mutex_;  // guards the queue between sources, workers and committer
  std::condition_variable room_, work_, done_;
  std::deque<Job> queue_;
  std::map<std::uint64_t, Spool::Append> processed_;
  std::uint64_t next_ticket_ = 0, committed_ = 0;
  std::size_t most_in_flight_ = 8;
  bool quiescing_ = false, discarding_ = false, stopping_ = false;
  std::atomic<bool> paused_{false};
  std::vector<std::thread> workers_;
  std::thread committer_;
};

}  // namespace dingle

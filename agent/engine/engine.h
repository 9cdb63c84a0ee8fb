// The engine: turns a configuration into running sources, pipelines and destinations, and swaps it while
// running.
//
//   sources -> submit (tickets) -> workers (pipelines, encoding) -> committer (in the order of tickets) ->
//   spool -> one delivery thread for each destination
//
// Every queue is bounded: when the spool is full the committer waits, then the workers, then the sources.
#pragma once

#include <atomic>
#include <deque>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <thread>
#include <vector>

#include "agent/configuration.h"
#include "agent/engine/deaths.h"
#include "agent/engine/delivery.h"
#include "agent/engine/flow_counters.h"
#include "agent/engine/identities.h"
#include "agent/engine/kept_names.h"
#include "agent/engine/live.h"
#include "agent/engine/samples.h"
#include "agent/engine/turnstile.h"
#include "agent/problems.h"
#include "agent/sources/source.h"
#include "agent/tables/table_watch.h"
#include "spool/mutex.h"
#include "spool/spool.h"
#include "store/store.h"

namespace dingle {

class Engine final : public Intake {
 public:
  // A configuration that ran before: the last one that has this destination, or with "" the last one, if that is another. nullptr:
  // it is not known.
  using Former = std::function<std::shared_ptr<const Configuration>(const std::string& destination)>;
  // Opens the spool in the configuration's data folder and starts everything. What changed since the last run ends by what ran then:
  // steps with memory send what they hold, and destinations for which events wait deliver them.
  static Result<std::unique_ptr<Engine>> start(std::shared_ptr<const Configuration> configuration,
                                               Problems::Listener listener,
                                               const Clock& clock = system_clock(), const Former& former = {},
                                               Disk& disk = system_disk());
  ~Engine() override;

  // Changes the configuration by what differs: sources and destinations that did not change go on without a pause.
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
    double latency_p50 = 0, latency_p99 = 0;  // seconds from reading to acceptance, since the start
    double in_rate = 0, out_rate = 0;         // events a second, over the last ten seconds
    std::vector<std::pair<double, std::uint64_t>> latency_at_most;  // seconds, events that took no longer
    std::uint64_t latency_count = 0;
    double latency_sum = 0;  // seconds
  };
  struct SourceState {
    std::string name, kind;
    std::optional<std::uint64_t> bytes_behind;  // there, and not in the spool yet; nullopt: not known yet
    std::uint64_t open = 0;
    std::vector<std::string> listening;
    std::string waits_for;  // the destination whose full queue pauses it, or ""
  };
  std::vector<DestinationState> destinations() const;
  std::vector<SourceState> sources() const;
  Spool& spool() override { return *spool_; }
  Problems& problems() override { return problems_; }
  const std::string& data_folder() const override { return data_; }
  Live& live() { return live_; }
  const ShapeSample& unmatched() const { return unmatched_; }  // by pipeline
  const ShapeSample& leftovers() const { return leftovers_; }  // by source
  const NewestLines& newest_lines() const { return newest_lines_; }
  // By turnstile of that configuration: what the memory of the step of that name holds now, on disk or not yet; nullptr where
  // there is none that means the same.
  std::vector<std::unique_ptr<StepMemory>> copies_of_memories(const Configuration& of) const;
  std::int64_t started() const { return started_; }
  bool paused() const { return paused_; }  // all sources wait, since the spool cannot be written
  // The store of an `index` destination; of every one if the name is "".
  std::vector<std::shared_ptr<Store>> stores(const std::string& destination) const;

  // Of steps with memory.
  // Lets a destination be tried at once that waits before its next try; false if there is none of that name.
  bool retry(const std::string& destination);
  // What the steps `tally` counted, as it is durable.
  struct Tallied {
    std::string pipeline;
    TallyMetric metric;
    std::vector<TallySeries> series;
  };
  std::vector<Tallied> tallied() const;
  struct MemoryState {
    std::size_t pipeline = 0;
    std::string step, held_counter;
    StepMemory::Size size;
  };
  // A configuration as it runs.
  struct Flowing {
    std::shared_ptr<const Configuration> configuration;
    std::vector<std::uint32_t> pipeline_ids;  // by pipeline
    std::vector<MemoryState> memories;
  };
  Flowing flowing() const;
  // Lets steps with memory send what is due; called once a second, and when more is due than one tick takes.
  void tick_if_due();

  bool submit(SourceBatch batch) override;
  Taken submit_durably(SourceBatch batch, std::chrono::nanoseconds patience,
                       std::chrono::nanoseconds for_disk) override;
  // Takes a batch without waiting for its end; nullopt, or why it was not taken.
  std::optional<Taken> hand_in(SourceBatch batch, std::chrono::nanoseconds patience);
  // The destination that keeps what is imported through this pipeline waiting now, since more than a quarter of its queue is
  // taken; or "".
  std::string keeps_import_waiting(std::uint32_t pipeline);
  void leave(const std::string& key, std::shared_ptr<void> open) override;
  std::shared_ptr<void> take_over(const std::string& key) override;

  std::uint32_t pipeline_id(const std::string& name) const;  // of one that runs; 0: none does

  friend class Erase;  // makes all forget what it erased
  friend class Rerun;  // puts what is stored into the spool again

  // ---- dead letters ----
  Letters& letters() { return *letters_; }
  struct Resent {
    std::uint64_t letters = 0;
    bool complete = false;  // of those that were meant, none is left
    std::string problem;    // why not all were, or ""
  };
  // What whoever resends wants to know, and may say.
  struct Resending {
    std::function<bool()> ends = nullptr;  // asked before each: no further
    // So many in all are in the spool again: those meant with ids up to `last` are done.
    std::function<void(std::uint64_t letters, std::int64_t last)> reached = nullptr;
  };
  // Puts the events of letters into the spool again, for their destination alone, and removes the letters:
  // as they were, or from their lines through the pipeline as it is now. Returns when that is durable; through the pipeline it
  // waits while a queue is full. Ends early when the program stops or is configured anew.
  Resent resend(LetterChoice choice, bool through_pipeline, const Resending& guide);
  Resent resend(LetterChoice choice, bool through_pipeline) {
    return resend(std::move(choice), through_pipeline, {});
  }
  // Letters that the run before had resent when it ended, and had not noted yet.
  const std::vector<std::int64_t>& resent_at_start() const { return resent_at_start_; }

 private:
  enum class Fate { open, appended, given_up };  // of a batch
  // A configuration as it runs.
  struct Running {
    std::shared_ptr<const Configuration> configuration;
    std::vector<std::uint32_t> pipeline_ids;     // by pipeline
    std::vector<std::uint32_t> destination_ids;  // by destination
    std::optional<FlowCounters> counters;
    CounterId ticks_unbalanced = 0;
    std::vector<CounterId> held;                         // by turnstile
    std::vector<std::shared_ptr<Turnstile>> turnstiles;  // by the flow's
    std::map<std::string, std::set<std::size_t>>
        pausing;  // by source: destinations that pause it when their queues are full
    // What of a batch that is sent again is kept; nullopt for one that is not.
    std::optional<Work::Again> again(const SourceBatch& batch) const;
    std::optional<std::size_t> node_of(std::uint32_t pipeline) const;  // by its id
    std::uint32_t id_of(const DestinationSettings& d) const {
      return destination_ids[static_cast<std::size_t>(&d - configuration->destinations.data())];
    }
  };
  struct Delivering {
    std::string written, kind;
    std::unique_ptr<DeliveryThread> thread;
    std::shared_ptr<const Configuration> configuration = {};  // that made it
    bool leaving = false;  // it is not in the configuration any more, but events wait for it
  };
  struct Processing;
  struct Job {
    std::uint64_t ticket = 0;
    SourceBatch batch;
    std::shared_ptr<const Running> running;
    std::optional<Work::Tick> tick = {};  // instead of a batch
    std::shared_ptr<Processing> doing = {};
    std::size_t passed = 0;                 // turnstiles
    std::optional<std::size_t> wants = {};  // the one whose turn it needs next; none: it needs no more
    std::size_t stop() const { return wants ? *wants : running->turnstiles.size(); }
  };

  Engine(Problems::Listener listener, const Clock& clock) : clock_(clock), problems_(std::move(listener)) {}
  // What keeps the configuration from replacing what runs: events that wait for what it does not have any
  // more; or "".
  std::string forbids(const Configuration& configuration) const;
  std::vector<std::string> abandoned(const Configuration& configuration) const;
  std::shared_ptr<Running> prepare(std::shared_ptr<const Configuration> configuration, std::string* problem);
  std::shared_ptr<const Running> running() const;
  bool run(std::shared_ptr<const Running> next);
  void start_destinations();
  void start_sources();
  void forget_old_steps();
  void count_unknown();
  std::shared_ptr<const Sealing> holder() const;  // with the key for what is held; nullptr without one
  Changes renamed_sources(const Configuration& next);
  void rename_left();
  std::vector<std::int64_t> forget_resent();
  std::string resend_one(const Letter& letter, const StateChange& consumed, bool through_pipeline);
  void finish_sources(std::chrono::steady_clock::time_point deadline) REQUIRES(reloading_);
  void quiesce();
  void resume();
  bool drained() const;
  void begin(Job& job);
  void go_on(Job& job);
  void take_turn(Job& job);
  void encode(Job& job);
  std::uint64_t stream_of(std::uint32_t step) const;
  bool may_pass(const Job& job) const;
  void carry_on(Job job) REQUIRES(mutex_);
  static void note_pausing(Running& running, std::size_t node, const std::string& source);
  void take_turnstiles(Running& next, const std::vector<std::uint32_t>& steps);
  void tick(Work::Tick tick, std::shared_ptr<const Running> running, std::shared_ptr<Fate> fate)
      REQUIRES(mutex_);
  bool close_memories(const std::shared_ptr<const Running>& running, const Configuration& next,
                      std::shared_ptr<Fate> fate) REQUIRES(mutex_);
  bool send_memories(const Configuration& next);
  std::uint64_t swap(std::shared_ptr<Running> next);
  void let_sources_go(const Configuration& next);
  void end_leaving();
  void mark_leaving(Delivering& delivering, const std::string& name);
  std::string keep_leaving(const Configuration& configuration, const Former& former);
  void give_up(std::uint32_t pipeline, std::uint32_t step, std::int64_t events, Changes changes = {});
  void give_up_memories();
  bool has_orphans(const Configuration& configuration) const;
  void tell_unbalanced(const SourceBatch& batch, std::uint64_t by);
  bool set_apart(const SourceBatch& batch, const Running& running, Spool::Append& out, const char* why);
  void run_worker();
  void run_meter();
  void shed_old();
  void look_for_times();
  void run_committer();

  std::optional<Taken> admit(SourceBatch batch, std::optional<std::chrono::steady_clock::time_point> until,
                             std::shared_ptr<Fate> fate) REQUIRES(mutex_);
  const DestinationSettings* pausing(const SourceBatch& batch, const Running& running) const REQUIRES(mutex_);
  const DestinationSettings* pausing_import(std::uint32_t pipeline, const Running& running) const
      REQUIRES(mutex_);
  void make_room(Spool::Append& append, const Running& running);
  void save_memory();

  const Clock& clock_;
  std::string data_;
  std::optional<KeptNames> names_;
  std::unique_ptr<Deaths> deaths_;
  std::unique_ptr<Disk> memory_;  // of the spool, if it is there
  std::unique_ptr<Spool> spool_;
  std::unique_ptr<Letters> letters_;
  Problems problems_;
  Live live_;
  ShapeSample unmatched_, leftovers_;
  NewestLines newest_lines_;
  std::int64_t started_ = 0;

  // Taken in this order.
  std::vector<std::int64_t> resent_at_start_;
  Mutex reloading_ ACQUIRED_BEFORE(resending_);  // held during reload and stop
  Mutex resending_ ACQUIRED_BEFORE(swapping_);   // held during a resend, however long that waits for room
  // Held while a configuration replaces another, and by who appends by what it says.
  Mutex swapping_ ACQUIRED_BEFORE(mutex_);
  mutable Mutex mutex_
      ACQUIRED_BEFORE(running_mutex_);  // of the queue between sources, workers and committer
  mutable Mutex running_mutex_ ACQUIRED_BEFORE(samples_mutex_);
  mutable Mutex samples_mutex_;  // and then any other

  std::atomic<bool> ending_{false};  // stop was called
  std::shared_ptr<const Running> running_ GUARDED_BY(running_mutex_);
  std::map<std::string, std::shared_ptr<void>> left_
      GUARDED_BY(running_mutex_);  // by sources, during a reload
  struct Reading {
    std::string written;
    std::shared_ptr<const Configuration> configuration;  // the source points into it
    std::unique_ptr<Source> source;
  };
  std::map<std::string, Reading> sources_ GUARDED_BY(running_mutex_);
  std::map<std::string, Delivering> deliveries_ GUARDED_BY(running_mutex_);

  Signal room_, work_, done_;
  std::deque<Job> queue_ GUARDED_BY(mutex_);
  std::map<std::uint64_t, Job> parked_ GUARDED_BY(mutex_);  // by ticket: what waits for its turn
  bool ticking_ GUARDED_BY(mutex_) = false;                 // a tick is in flight
  std::map<std::uint64_t, Spool::Append> processed_ GUARDED_BY(mutex_);
  std::uint64_t next_ticket_ GUARDED_BY(mutex_) = 0, committed_ GUARDED_BY(mutex_) = 0;
  std::size_t most_in_flight_ = 8;
  struct InFlight {
    std::string source;
    std::uint64_t bytes = 0;  // of lines
    std::uint64_t of_stream = 0;
    std::shared_ptr<Fate> fate;
    bool tick = false;
  };
  std::deque<InFlight> in_flight_ GUARDED_BY(mutex_);  // by ticket from `committed_` on
  std::uint64_t in_flight_bytes_ GUARDED_BY(mutex_) = 0;
  std::map<std::string, std::string> paused_sources_
      GUARDED_BY(mutex_);                   // and the destinations that they wait for
  bool closed_ GUARDED_BY(mutex_) = false;  // the program stops: nothing is let in any more
  bool quiescing_ GUARDED_BY(mutex_) = false,
                  discarding_ GUARDED_BY(mutex_) = false, stopping_ GUARDED_BY(mutex_) = false;
  std::set<std::string> letting_go_
      GUARDED_BY(mutex_);  // sources that stop, for a change of the configuration
  std::atomic<bool> paused_{false};
  // Samples of what was appended and passed, one a second.
  struct Sample {
    std::chrono::steady_clock::time_point at;
    std::map<std::uint32_t, std::pair<std::uint64_t, std::uint64_t>> counts;
  };
  Signal meter_stop_;
  std::deque<Sample> samples_ GUARDED_BY(samples_mutex_);
  // Of the thread that samples.
  std::shared_ptr<const Configuration> times_of_;  // whose pipelines were looked at
  std::vector<std::size_t> untimed_;               // nodes of its flow, still to be looked at
  std::vector<std::string> times_told_;            // problems
  bool metering_stops_ GUARDED_BY(samples_mutex_) = false;
  std::thread meter_;
  std::unique_ptr<TableWatch> tables_;
  std::vector<std::thread> workers_;
  std::thread committer_;
};

}  // namespace dingle

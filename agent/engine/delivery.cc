#include "agent/engine/delivery.h"

#include <algorithm>

#include "core/time/instant.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr std::size_t kMostEvents = 16'384;  // in one delivery, whole records
constexpr std::size_t kMostBytes = 8u << 20;
constexpr auto kLinger = 25ms;          // how long a small batch waits for company
constexpr std::size_t kEnough = 2'000;  // events that need no company
constexpr auto kIdle = 500ms;
constexpr auto kHousekeeping = 10s;
}  // namespace

std::string counter_of_destination(std::uint32_t id, const char* what) {
  return "destination/" + std::to_string(id) + "/" + what;
}

DeliveryThread::DeliveryThread(const DestinationSettings& settings, std::uint32_t id,
                               std::unique_ptr<Destination> destination, Spool& spool, Letters& letters,
                               Problems& problems)
    : name_(settings.name),
      id_(id),
      destination_(std::move(destination)),
      spool_(spool),
      letters_(letters),
      problems_(problems) {
  const Options& retry = settings.common.section("retry");
  first_ = std::chrono::nanoseconds(retry.number("first"));
  longest_ = std::chrono::nanoseconds(retry.number("longest"));
  give_up_after_ = std::chrono::nanoseconds(retry.number("give_up_after"));
  thread_ = std::thread([this] { run(); });
}

DeliveryThread::~DeliveryThread() {
  {
    std::lock_guard lock(mutex_);
    stopping_ = true;
  }
  stop_.notify_all();
  spool_.wake_readers();
  thread_.join();
  problems_.clear("destination " + name_);
}

DeliveryThread::Status DeliveryThread::status() const { return {retries_, delivered_, lag_, failing_}; }

bool DeliveryThread::wait(std::chrono::nanoseconds time) {
  std::unique_lock lock(mutex_);
  return !stop_.wait_for(lock, time, [&] { return stopping_.load(); });
}

std::chrono::nanoseconds DeliveryThread::backoff(unsigned attempt) {
  std::chrono::nanoseconds most = first_;
  for (unsigned i = 0; i < attempt && most < longest_; ++i) most *= 2;
  most = std::min(most, longest_);
  return std::chrono::nanoseconds(
      std::uniform_int_distribution<std::int64_t>(most.count() / 10, most.count())(random_));
}

// Reads records until there are enough events, or no more come. False when there was none.
bool DeliveryThread::gather(std::vector<Spool::Read>& reads, std::uint64_t after) {
  std::size_t events = 0, bytes = 0;
  auto timeout = std::chrono::nanoseconds(kIdle);
  const auto begin = std::chrono::steady_clock::now();
  while (!stopping_ && events < kMostEvents && bytes < kMostBytes) {
    Spool::Read read;
    if (!spool_.read(id_, after, timeout, read)) break;
    after = read.number.number;
    events += read.events;
    bytes += read.bytes->size();
    reads.push_back(std::move(read));
    const auto waited = std::chrono::steady_clock::now() - begin;
    timeout = events >= kEnough || waited >= kLinger + kIdle ? 0ns : std::chrono::nanoseconds(kLinger);
  }
  return !reads.empty();
}

void DeliveryThread::run() {
  std::uint64_t cursor = spool_.cursor(id_);
  auto last_idle = std::chrono::steady_clock::now();
  while (!stopping_) {
    std::vector<Spool::Read> reads;
    if (!gather(reads, cursor)) {
      if (!stopping_ && std::chrono::steady_clock::now() - last_idle >= kIdle) {
        destination_->idle();
        last_idle = std::chrono::steady_clock::now();
      }
      continue;
    }
    EventDecoder decoder;
    std::vector<SpooledEvent> decoded;
    std::vector<DeliveryEvent> events;
    std::uint64_t damaged = 0;
    for (const Spool::Read& read : reads) {
      decoded.clear();
      decoder.decode(read.batch.events, id_, decoded);
      damaged += read.unreadable_events;
      if (decoded.size() < read.events) damaged += read.events - decoded.size();
      for (const SpooledEvent& e : decoded) events.push_back({read.number, e});
    }
    set_aside_ = 0;
    if (!events.empty() && !deliver(events)) return;  // stopping: the cursor stays
    cursor = reads.back().number.number;
    std::vector<CounterChange> counters;
    if (set_aside_)
      counters.push_back({counter_of_destination(id_, "set_aside"), static_cast<std::int64_t>(set_aside_)});
    if (damaged)
      counters.push_back({counter_of_destination(id_, "damaged"), static_cast<std::int64_t>(damaged)});
    spool_.passed(id_, cursor, std::move(counters));
    if (std::chrono::steady_clock::now() - last_idle >=
        kHousekeeping) {  // retention must not wait for a quiet hour
      destination_->idle();
      last_idle = std::chrono::steady_clock::now();
    }
  }
}

// Sees all of the events through. False when stopping.
bool DeliveryThread::deliver(std::vector<DeliveryEvent>& events) {
  unsigned attempt = 0;
  auto refused_since = std::chrono::steady_clock::time_point();
  const std::size_t all = events.size();
  const std::int64_t newest_read = events.back().event.observed;
  while (!events.empty()) {
    Delivery delivery = destination_->deliver(events);
    const bool single = delivery.outcomes.size() == 1;
    const Outcome* trouble = nullptr;
    bool any_retry = false;
    for (std::size_t i = 0; i < (single ? 1 : events.size()); ++i) {
      const Outcome& o = delivery.of(i);
      if (o.form != Outcome::Form::accepted && !trouble) trouble = &o;
      any_retry |= o.form == Outcome::Form::retry;
    }
    if (!trouble) break;
    const auto now = std::chrono::steady_clock::now();
    if (any_retry)
      refused_since = {};
    else if (refused_since == std::chrono::steady_clock::time_point())
      refused_since = now;
    problems_.set("destination " + name_, trouble->reason);
    failing_ = true;
    const bool give_up = !any_retry && now - refused_since >= give_up_after_;
    std::vector<DeliveryEvent> left;
    if (give_up) {
      if (!set_aside(events, delivery)) return false;
    } else {
      for (std::size_t i = 0; i < events.size(); ++i)
        if (delivery.of(i).form != Outcome::Form::accepted) left.push_back(events[i]);
    }
    events = std::move(left);
    if (events.empty()) break;
    ++retries_;
    spool_.count({{counter_of_destination(id_, "retried"), static_cast<std::int64_t>(events.size())}});
    if (!wait(delivery.retry_after.value_or(backoff(attempt++)))) return false;
  }
  failing_ = false;
  problems_.clear("destination " + name_);
  delivered_ += all - set_aside_;
  lag_ = system_now() - newest_read;
  return true;
}

// Keeps what was refused as dead letters; waits as long as they cannot be kept. False when stopping before
// they are.
bool DeliveryThread::set_aside(std::vector<DeliveryEvent>& events, const Delivery& delivery) {
  std::vector<Letter> letters;
  for (std::size_t i = 0; i < events.size(); ++i) {
    if (delivery.of(i).form != Outcome::Form::refused) continue;
    Letter letter{id_, events[i].number, events[i].event.ordinal, system_now(), 1, delivery.of(i).reason, {}};
    append_event_json(events[i].event, letter.event);
    letters.push_back(std::move(letter));
  }
  std::string problem;
  while (!letters_.keep(letters, &problem)) {
    problems_.set("destination " + name_, problem);
    if (!wait(1s)) return false;
  }
  set_aside_ += letters.size();
  return true;
}

}  // namespace dingle

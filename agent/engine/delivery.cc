#include "agent/engine/delivery.h"

#include <fmt/format.h>

#include <algorithm>

#include "agent/engine/concealed.h"
#include "core/bytes.h"
#include "core/time/instant.h"
#include "store/index_file.h"

namespace dingle {

using namespace std::chrono_literals;

namespace {
constexpr unsigned kTriesInOnePiece = 4;  // of a batch that fails as a whole, before it is halved
constexpr std::size_t kMostDeferred = 4;  // batches that are made durable together
constexpr unsigned kInTime = 20;          // deliveries in time before more events are tried at once
constexpr std::chrono::milliseconds kIdle = 500ms, kHousekeeping = 10s;
}  // namespace

DeliveryThread::DeliveryThread(const DestinationSettings& settings, std::uint32_t id,
                               std::unique_ptr<Destination> destination, Spool& spool, Letters& letters,
                               Problems& problems, Holder holder)
    : name_(settings.name),
      id_(id),
      destination_(std::move(destination)),
      spool_(spool),
      letters_(letters),
      holder_(std::move(holder)),
      problems_(problems),
      stored_(spool, id) {
  const Options& retry = settings.common.section("retry");
  first_ = std::chrono::nanoseconds(retry.number("first"));
  longest_ = std::chrono::nanoseconds(retry.number("longest"));
  give_up_after_ = std::chrono::nanoseconds(retry.number("give_up_after"));
  const Options& batch = settings.common.section("batch");
  limits_ = {static_cast<std::size_t>(batch.number("events")),
             static_cast<std::size_t>(batch.number("bytes")), std::chrono::nanoseconds(batch.number("age")),
             destination_->reads_ahead()};
  at_once_ = limits_.events;
  status_.since = system_now();
  thread_ = std::thread([this] { run(); });
}

DeliveryThread::~DeliveryThread() {
  {
    Lock lock(mutex_);
    stopping_ = true;
  }
  stop_.notify_all();
  destination_->cancel();
  spool_.wake_readers();
  thread_.join();
  problems_.clear("destination " + name_);
}

DeliveryThread::Status DeliveryThread::status() const {
  Lock lock(mutex_);
  return status_;
}

void DeliveryThread::try_now() {
  Lock lock(mutex_);
  now_ = true;
  stop_.notify_all();
}

bool DeliveryThread::wait(std::chrono::nanoseconds time) {
  Lock lock(mutex_);
  stop_.wait_for(mutex_, time, [&]() REQUIRES(mutex_) { return stopping_.load() || now_; });
  now_ = false;
  return !stopping_;
}

std::chrono::nanoseconds DeliveryThread::backoff(unsigned attempt) {
  std::chrono::nanoseconds most = first_;
  for (unsigned i = 0; i < attempt && most < longest_; ++i) most *= 2;
  most = std::min(most, longest_);
  return std::chrono::nanoseconds(
      std::uniform_int_distribution<std::int64_t>(most.count() / 10, most.count())(random_));
}

// Whatever a destination or a library throws is a problem and a retry, never the end of the program.
void DeliveryThread::run() {
  for (unsigned failures = 0; !stopping_; ++failures) {
    try {
      return deliver_all();
    } catch (const std::exception& error) {
      go_back();
      const auto pause = backoff(std::min(failures, 20u));
      failing(std::string("unforeseen: ") + error.what() + "; this is a fault of the program", pause);
      {
        Lock lock(mutex_);
        ++status_.retries;
      }
      wait(pause);
    }
  }
}

// From where it has all, until it is told to stop.
void DeliveryThread::deliver_all() {
  rewind_to_.reset();
  go_on_sending_again();
  std::uint64_t cursor = resume();
  // Kept before a crash, but not yet passed: they are not tried again.
  auto kept = letters_.kept_behind(id_, cursor);
  auto last_idle = std::chrono::steady_clock::now();
  BatchReader reader(spool_, id_, limits_, stopping_);
  while (!stopping_) {
    if (!deferred_.empty() && !spool_.has_more(id_, cursor)) {
      if (destination_->flush()) {
        pass_deferred();
      } else {
        go_back();
        cursor = resume();
      }
    }
    BatchReader::Read* batch = reader.next(cursor);
    if (batch == nullptr) {
      if (!stopping_ && std::chrono::steady_clock::now() - last_idle >= kIdle) {
        housekeep();
        last_idle = std::chrono::steady_clock::now();
        reader.forget();
      }
      continue;
    }
    std::vector<DeliveryEvent>& events = batch->events;
    counted_ = sent_again_ ? spool_.cursor(id_) : 0;
    set_aside_ = kept.empty() ? 0 : erase(events, kept);
    answered_ = bytes_out_ = 0;
    if (!taken_ahead_.empty()) {
      answered_ = erase(events, taken_ahead_);
      taken_ahead_.erase(taken_ahead_.begin(), taken_ahead_.upper_bound({batch->last(), UINT32_MAX}));
    }
    in_hand_ = batch->last();
    destination_->may_defer = deferred_.size() + 1 < kMostDeferred && spool_.has_more(id_, batch->last());
    durable_ = true;
    start_over_ = false;
    if (!deliver_in_parts(events)) return;  // stopping: the cursor stays
    if (rewind_to_) {
      go_back();
      cursor = rewind(kept);
      continue;
    }
    if (start_over_) {
      go_back();
      cursor = resume();
      kept = letters_.kept_behind(id_, cursor);
      continue;
    }
    cursor = batch->last();
    if (!kept.empty() && kept.rbegin()->first <= cursor) kept.clear();
    std::vector<CounterChange> counters = std::move(counts_);
    counts_.clear();
    if (answered_) counters.push_back({counter("answered"), static_cast<std::int64_t>(answered_)});
    if (bytes_out_) counters.push_back({counter("bytes_out"), static_cast<std::int64_t>(bytes_out_)});
    if (set_aside_) counters.push_back({counter("set_aside"), static_cast<std::int64_t>(set_aside_)});
    if (sent_again_) stored_.explained();  // it has less until it has all of it again, or what is left of it
    if (had_before_damage_) stored_.explained();
    if (had_before_damage_ && cursor >= *had_before_damage_) had_before_damage_.reset();
    stored_.pass(answered_, counters);
    if (batch->damaged) counters.push_back({counter("damaged"), static_cast<std::int64_t>(batch->damaged)});
    deferred_.push_back({cursor, {std::move(progress_), std::move(counters)}});
    progress_.clear();
    if (durable_) pass_deferred();
    if (std::chrono::steady_clock::now() - last_idle >=
        kHousekeeping) {  // retention must not wait for a quiet hour
      housekeep();
      last_idle = std::chrono::steady_clock::now();
    }
  }
}

// Takes those events away; answers how many of them count.
std::uint64_t DeliveryThread::erase(std::vector<DeliveryEvent>& events,
                                    const std::set<std::pair<std::uint64_t, std::uint32_t>>& which) const {
  std::uint64_t n = 0;
  std::erase_if(events, [&](const DeliveryEvent& e) {
    const bool erased = which.count({e.number.number, e.event.ordinal}) != 0;
    n += erased && counts(e);
    return erased;
  });
  return n;
}

void DeliveryThread::housekeep() {
  letters_.forget_taken(id_, spool_.first_record());
  const Destination::Housekeeping done = destination_->idle();
  std::vector<CounterChange> counts;
  for (const auto& [what, n] : done.counts) counts.push_back({counter(what), static_cast<std::int64_t>(n)});
  if (!counts.empty()) spool_.count(std::move(counts));
  for (const std::string& text : done.said) problems_.note("destination " + name_, text);
  const std::string about = "destination " + name_ + ": keep";
  if (done.soon_gone && done.soon_gone->empty()) problems_.clear(about);
  if (done.soon_gone && !done.soon_gone->empty()) problems_.set(about, *done.soon_gone);
  if (done.missing && done.missing->empty()) problems_.clear("destination " + name_ + ": missing");
  if (done.missing && !done.missing->empty())
    problems_.set("destination " + name_ + ": missing", *done.missing);
  if (!done.kept) return;
  Lock lock(mutex_);
  status_.kept = done.kept;
}

// The destination is done with all that was deferred.
void DeliveryThread::pass_deferred() {
  for (Deferred& d : deferred_) {
    if (sent_again_) sent_again_ = d.number;
    spool_.passed(id_, d.number, std::move(d.changes));
  }
  if (sent_again_ && *sent_again_ >= spool_.cursor(id_)) sent_again();
  deferred_.clear();
}

// What was deferred may be gone there, and what is in hand comes again, with its counts.
void DeliveryThread::go_back() {
  deferred_.clear();
  progress_.clear();
  counts_.clear();
  stored_.go_back();
}

void DeliveryThread::failing(const std::string& reason, std::chrono::nanoseconds wait) {
  if (stopping_) return;  // that it was called off is nobody's problem
  problems_.set("destination " + name_, reason);
  Lock lock(mutex_);
  const std::int64_t now = system_now();
  if (!status_.failing) status_.since = now;
  status_.failing = true;
  status_.reason = reason;
  status_.next_try = now + wait.count();
}

void DeliveryThread::accepted(std::span<const DeliveryEvent> events, const Delivery& delivery) {
  const std::int64_t now = system_now();
  std::uint64_t n = 0;
  std::int64_t newest = 0, same = -1;
  std::uint64_t times = 0;
  for (std::size_t i = 0; i < events.size(); ++i) {
    if (delivery.of(i).form != Outcome::Form::accepted) continue;
    ++n;
    answered_ += counts(events[i]);
    bytes_out_ += counts(events[i]) ? events[i].event.bytes : 0;
    const std::int64_t observed = events[i].event.observed;
    newest = std::max(newest, observed);
    if (observed != same && times != 0) latency_.add(now - same, std::exchange(times, 0));
    same = observed;
    ++times;
  }
  if (times != 0) latency_.add(now - same, times);
  for (const auto& [what, count] : delivery.counts)
    counts_.push_back({counter(what), static_cast<std::int64_t>(count)});
  // What it accepted once stays known until it has it again, also over an end of the program.
  for (std::size_t i = sent_again_ ? 0 : events.size(); i-- > 0;)
    if (delivery.of(i).form == Outcome::Form::accepted) {
      std::string value;
      ByteWriter w(value);
      w.varint(events[i].number.epoch);
      w.varint(events[i].number.number);
      progress_ = {{accepted_key(), value, false}};
      break;
    }
  Lock lock(mutex_);
  status_.tells_stored = stored_.tells();
  if (n != 0) {
    status_.delivered += n;
    status_.lag = now - newest;
    status_.last_accepted = now;
  }
}

// One round: offers the events, in halves where a whole is turned away. What is to be tried again goes to
// `left`, in order. Answers what the destination said last, judged if it took some and turned others away.
Delivery DeliveryThread::offer(std::span<const DeliveryEvent> events, unsigned attempt, const Trial& trial,
                               Turned& left, Turned& refused) {
  std::vector<std::pair<std::size_t, std::size_t>> parts{{0, events.size()}};  // the next one last
  unsigned alone = 0;  // single events that were turned away before any was taken
  bool took_some = trial.takes_others;
  std::optional<std::chrono::nanoseconds> retry_after;  // the longest that was asked for
  Delivery last;
  while (!parts.empty()) {
    const auto [from, to] = parts.back();
    parts.pop_back();
    const std::span<const DeliveryEvent> part = events.subspan(from, to - from);
    Delivery delivery = destination_->deliver(part);
    hide_content(part, delivery);
    if (delivery.held) compare(delivery);
    if (rewind_to_ || start_over_) return delivery;  // nothing more before what it lost
    if (delivery.stored) stored_.told(*delivery.stored);
    accepted(part, delivery);
    durable_ = durable_ && delivery.durable;
    adapt(part.size(), delivery);
    std::size_t again = 0, never = 0;
    for (std::size_t i = 0; i < part.size(); ++i) {
      again += delivery.of(i).form == Outcome::Form::retry;
      never += delivery.of(i).form == Outcome::Form::refused;
    }
    took_some |= again + never < part.size();
    const bool whole = again == part.size() || never == part.size();
    if (whole && part.size() > 1 && delivery.separable && !stopping_ &&
        (never != 0 ||
         (attempt >= kTriesInOnePiece && (took_some || trial.each_alone || alone < kTriesInOnePiece)))) {
      const std::size_t middle = from + (to - from) / 2;
      parts.emplace_back(middle, to);
      parts.emplace_back(from, middle);
      continue;
    }
    alone += whole && part.size() == 1;
    for (std::size_t i = 0; i < part.size(); ++i) {
      const Outcome& o = delivery.of(i);
      if (o.form == Outcome::Form::accepted) continue;
      Turned& turned = o.form == Outcome::Form::retry ? left : refused;
      turned.events.push_back(part[i]);
      turned.reasons.push_back(o.reason);
    }
    if (delivery.retry_after) retry_after = std::max(retry_after.value_or(0ns), *delivery.retry_after);
    last = std::move(delivery);
  }
  last.retry_after = retry_after;
  last.judged |= took_some && !left.events.empty();
  return last;
}

// How many events are offered at once from now on.
void DeliveryThread::adapt(std::size_t events, const Delivery& delivery) {
  if (delivery.too_slow) {
    at_once_ = std::max<std::size_t>(1, std::min(at_once_, events) / 2);
    in_time_ = 0;
  } else if (at_once_ < limits_.events && events >= at_once_ &&
             delivery.of(0).form == Outcome::Form::accepted && ++in_time_ >= kInTime) {
    at_once_ = std::min(limits_.events, 2 * at_once_);
    in_time_ = 0;
  } else {
    return;
  }
  Lock lock(mutex_);
  status_.at_once = at_once_ < limits_.events ? at_once_ : 0;
}

// Sees all of the events through, not more at once than asked for, though records are read whole: a part goes
// after the one before it is done with. False when stopping. Returns early if it is to go on elsewhere.
bool DeliveryThread::deliver_in_parts(std::span<const DeliveryEvent> events) {
  for (std::size_t from = 0; from < events.size() && !rewind_to_ && !start_over_;) {
    const std::size_t n = std::min(events.size() - from, at_once_);
    std::span<const DeliveryEvent> part = events.subspan(from, n);
    from += n;
    std::vector<DeliveryEvent>
        others;  // than those that were taken in a trial, while a part before was in hand
    if (!taken_ahead_.empty()) {
      std::copy_if(part.begin(), part.end(), std::back_inserter(others), [&](const DeliveryEvent& e) {
        return taken_ahead_.count({e.number.number, e.event.ordinal}) == 0;
      });
      part = others;
    }
    behind_.push_back(events.subspan(from));
    const bool done = deliver(part);
    behind_.pop_back();
    if (!done) return false;
  }
  return true;
}

// The same in one part, while the destination has the time for it.
bool DeliveryThread::deliver(std::span<const DeliveryEvent> events) {
  std::vector<DeliveryEvent> again;                        // what `events` is after the first round
  std::chrono::steady_clock::time_point judged_since{};    // it turns them away, though it is there
  std::chrono::steady_clock::time_point answered_since{};  // it answers, and takes none of them
  Trial trial;
  for (unsigned attempt = 1; !events.empty(); ++attempt) {
    Turned left, refused;
    const Delivery delivery = offer(events, attempt, trial, left, refused);
    if (rewind_to_ || start_over_) return true;  // nothing of it was taken, or it comes again
    const auto now = std::chrono::steady_clock::now();
    if (!delivery.judged && !delivery.separable)
      judged_since = {};  // it is down or busy, and says nothing of the events
    else if (delivery.judged && judged_since == std::chrono::steady_clock::time_point())
      judged_since = now;
    if ((!delivery.judged && !delivery.separable) || left.events.size() != events.size())
      answered_since = {};
    else if (answered_since == std::chrono::steady_clock::time_point())
      answered_since = now;
    if (!refused.events.empty() && !set_aside(refused, attempt)) return false;
    trial.each_alone = false;
    if (!trial.takes_others && answered_since != std::chrono::steady_clock::time_point() &&
        now - answered_since >= give_up_after_ && !delivery.judged && deferred_.empty() && durable_) {
      trial.takes_others = takes_others(left, attempt);
      if (stopping_) return false;
      if (rewind_to_ || start_over_) return true;
      if (trial.takes_others) {
        judged_since = answered_since;
      } else {
        trial.each_alone = true;
        answered_since = now;
      }
    }
    if (!left.events.empty() && judged_since != std::chrono::steady_clock::time_point() &&
        left.events.size() == events.size() && now - judged_since >= give_up_after_) {
      if (!set_aside(left, attempt)) return false;
      left.events.clear();
    }
    if (!left.events.empty() && (!deferred_.empty() || !durable_)) {
      start_over_ = true;
      return true;
    }
    again = std::move(left.events);
    events = again;
    if (events.empty()) break;
    if (delivery.at_once) {
      --attempt;  // nothing was wrong with these
      continue;
    }
    const auto pause = delivery.retry_after.value_or(backoff(attempt - 1));
    failing(left.reasons.front(), pause);
    {
      Lock lock(mutex_);
      ++status_.retries;
    }
    spool_.count({{counter("retried"), static_cast<std::int64_t>(events.size())}});
    if (!wait(pause)) return false;
    if (delivery.too_slow && events.size() > at_once_) return deliver_in_parts(events);
  }
  problems_.clear("destination " + name_);
  Lock lock(mutex_);
  if (std::exchange(status_.failing, false)) {
    status_.since = system_now();
    status_.reason.clear();
    status_.next_try = 0;
  }
  return true;
}

// Keeps events as dead letters; waits as long as they cannot be kept. False when stopping before they are.
bool DeliveryThread::set_aside(const Turned& turned, unsigned attempts) {
  std::vector<Letter> letters;
  for (std::size_t i = 0; i < turned.events.size(); ++i) {
    const DeliveryEvent& e = turned.events[i];
    Letter letter{id_, e.number, e.event.ordinal, system_now(), attempts, turned.reasons[i], {}};
    letter.source = e.event.source;
    if (e.event.hidden_elsewhere) {
      conceal(letter, e.event, holder_ ? holder_().get() : nullptr);
    } else {
      append_event_json(e.event, letter.event);
      letter.record = encode_event(e.event, id_);
    }
    letters.push_back(std::move(letter));
  }
  std::string problem;
  while (!letters_.keep(letters, &problem)) {
    failing(problem, 1s);
    if (!wait(1s)) return false;
  }
  for (const DeliveryEvent& e : turned.events) set_aside_ += counts(e);
  return true;
}

}  // namespace dingle

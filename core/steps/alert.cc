// alert: makes an event when others are too many, or too few.
//
// Memory: by key the times of the newest events, as many as the threshold needs, and when the last alert was.
#include <algorithm>
#include <deque>

#include "core/bytes.h"
#include "core/steps/due_map.h"
#include "core/steps/memory.h"
#include "core/steps/set_function.h"
#include "core/steps/weight.h"
#include "core/tables/table.h"
#include "core/time/instant.h"
#include "core/value_bytes.h"

namespace dingle {
namespace {

const ComponentSpec kAlertSpec{
    "alert",
    "Makes an event when more than so many events come within a time, or fewer, for each value of some "
    "fields; the events "
    "themselves pass unchanged. `where` says which are counted. What it makes carries the fields of `by`, "
    "`dingle.alert` (its "
    "name), `alert.count` and a `severity`, and goes where the pipeline's `to` says: `to: [operations, { "
    "alerts: \"dingle.alert is "
    "not null\" }]`. `more_than` goes by the events' time; `fewer_than` by the clock, and only over time in "
    "which the program ran "
    "and what came was not behind: for a time after a start, and while old lines are read, it says nothing. "
    "Without `by` one count is watched "
    "from the start on; with it each value that was seen in the last `watch_for`, or that stands in a table. "
    "Costs a look-up an "
    "event.",
    "alert: { called: customs refused, where: \"outcome = 'refused'\", by: [ship], more_than: 5, within: "
    "10m, quiet: 1h }",
    {{.name = "called", .type = OptionType::text, .text = "The alert's name.", .required = true},
     {.name = "more_than",
      .type = OptionType::integer,
      .text = "It is too many when more than so many come.",
      .most = 1000},
     {.name = "fewer_than",
      .type = OptionType::integer,
      .text = "It is too few when fewer than so many come.",
      .least = 1,
      .most = 1000},
     {.name = "within",
      .type = OptionType::duration,
      .fallback = "5m",
      .text = "The time in which they are counted.",
      .least = 1'000'000'000},
     {.name = "by", .type = OptionType::fields, .text = "For each value of these on its own."},
     {.name = "keys",
      .type = OptionType::text,
      .text = "For `fewer_than`: a table; each of its keys is watched, as a value of the one field in `by`."},
     {.name = "watch_for",
      .type = OptionType::duration,
      .fallback = "24h",
      .text = "For `fewer_than`: how long a value is watched after it was seen.",
      .least = 1'000'000'000},
     {.name = "quiet",
      .type = OptionType::duration,
      .fallback = "1h",
      .text = "After an alert there is none for so long, for the same values.",
      .least = 1'000'000'000},
     {.name = "behind",
      .type = OptionType::duration,
      .fallback = "1m",
      .text =
          "For `fewer_than`: an event that is read so long after its time says that the source is behind.",
      .least = 1'000'000'000},
     {.name = "severity",
      .type = OptionType::text,
      .fallback = "warn",
      .text = "Of the event that it makes."},
     {.name = "most_keys",
      .type = OptionType::integer,
      .fallback = "10000",
      .text = "How many values are watched; those that were not seen for longest are forgotten early, and "
              "counted.",
      .least = 1,
      .most = 100'000}}};

std::int64_t later(std::int64_t t, std::int64_t by) {
  std::int64_t sum = 0;
  return __builtin_add_overflow(t, by, &sum) ? kNever : sum;
}

struct Watched {
  std::deque<std::int64_t> times;                                       // of the newest events, ascending
  std::int64_t alerted = std::numeric_limits<std::int64_t>::min() / 2;  // when it was last said
  bool changed = false;                                                 // since it was noted
  std::int64_t seen = 0;                                                // by the clock
};

class Alert final : public MemoryStep {
 public:
  std::string called, severity;
  std::vector<std::string> by_names;
  std::vector<FieldId> by;
  std::shared_ptr<TableHandle> keys;
  bool too_few = false;
  std::size_t threshold = 0, most_keys = 0;
  std::int64_t within = 0, watch_for = 0, quiet = 0, behind = 0;

  struct Seen final : Prepared {
    struct One {
      std::string key;
      std::int64_t time = 0;
      std::uint64_t weight = 1;
    };
    std::vector<One> all;
    bool is_behind = false;
  };
  class Memory final : public StepMemory {
   public:
    DueMap<Watched> watched;
    std::int64_t judged_from =
        kNever;  // by the clock: what was before is not known; kNever until the first turn
    bool few = false;
    Size size() const override { return {watched.size(), watched.bytes(), 0}; }
    std::int64_t next_due() const override { return few && judged_from == kNever ? 0 : watched.next_due(); }
  };

  void follow(StepFields& fields) const override {
    for (const std::string& f : by_names) fields.reads("by", f);
    for (const char* f : {"dingle.alert", "alert.count", "severity"}) fields.there.add(f);
  }
  std::unique_ptr<StepMemory> begin() const override {
    auto memory = std::make_unique<Memory>();
    memory->few = too_few;
    return memory;
  }
  std::uint64_t most_bytes() const override { return most_keys * charge(); }
  std::string meaning() const override {
    std::string text = "alert 1 " + std::string(too_few ? "few " : "many ") + std::to_string(threshold) +
                       " " + std::to_string(within);
    for (const std::string& field : by_names) text += " " + field;
    return text;
  }
  bool restore(StepMemory& memory, std::string_view key, std::string_view value,
               std::int64_t now) const override {
    ByteReader in(value);
    Watched w;
    if (in.u8() != 1) return false;
    w.alerted = in.zigzag();
    w.seen = in.zigzag();
    const std::uint64_t n = in.varint();
    if (n > most_times()) return false;
    for (std::uint64_t i = 0; i < n; ++i) w.times.push_back(in.zigzag());
    if (!in.ok() || !in.at_end()) return false;
    auto& m = static_cast<Memory&>(memory);
    m.judged_from = now;
    auto* held = m.watched.touch(key).first;
    held->value = std::move(w);
    settle(m, *held);
    return true;
  }

  std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const override {
    auto seen = std::make_unique<Seen>();
    OwnedValue owned;
    for (const Event& event : batch.events) {
      if (event.dropped_by != 0) continue;
      seen->is_behind = seen->is_behind || later(event.timestamp, behind) < event.observed;
      if (!takes(batch, event)) continue;
      ++tally.in;
      ++tally.out;
      Seen::One one;
      ByteWriter out(one.key);
      out.u8(kKey);
      for (const FieldId field : by) {
        owned.set(batch.get(event, field));
        owned.write(out);
      }
      if (one.key.size() > kLongestKey) {
        ++tally.missed;
        continue;
      }
      one.time = event.timestamp;
      one.weight = static_cast<std::uint64_t>(weight_of(event));
      seen->all.push_back(std::move(one));
    }
    return seen;
  }

  void turn(Batch& batch, StepTally& tally, Prepared* prepared, StepMemory& memory,
            Turn& turn) const override {
    auto& m = static_cast<Memory&>(memory);
    if (turn.why == Turn::Why::everything) {
      while (m.watched.size() != 0) forget(m, m.watched.oldest(), turn);
      return;
    }
    if (m.judged_from == kNever) m.judged_from = turn.now;
    if (const auto* seen = static_cast<const Seen*>(prepared)) {
      if (seen->is_behind) m.judged_from = turn.now;
      for (const Seen::One& one : seen->all) take(batch, tally, m, one, turn);
      for (const Seen::One& one : seen->all)  // once each, however many came
        if (auto* held = m.watched.find(one.key); held != nullptr && held->value.changed) note(*held, turn);
    }
    while (m.watched.size() > most_keys) {
      ++tally.early;
      forget(m, m.watched.oldest(), turn);
    }
    if (turn.why == Turn::Why::events) return;
    if (too_few) expect(m, turn);
    for (std::size_t i = 0;
         i < Turn::kMostAtOnce && m.watched.size() != 0 && m.watched.next_due() <= turn.now; ++i)
      look(batch, tally, m, m.watched.first_due(), turn);
  }

 private:
  static constexpr std::size_t kLongestKey = 4096;
  static constexpr std::uint8_t kKey = 1;  // a key begins with it: an empty one is the memory's own
  std::size_t most_times() const { return too_few ? threshold : threshold + 1; }
  std::uint64_t charge() const { return 400 + most_times() * 16; }
  void note(DueMap<Watched>::Held& held, Turn& turn) const {
    std::string value;
    ByteWriter out(value);
    out.u8(1);
    out.zigzag(held.value.alerted);
    out.zigzag(held.value.seen);
    out.varint(held.value.times.size());
    for (const std::int64_t t : held.value.times) out.zigzag(t);
    held.value.changed = false;
    turn.changes.push_back({held.key, std::move(value)});
  }
  static void forget(Memory& m, DueMap<Watched>::Held& held, Turn& turn) {
    turn.changes.push_back({held.key, std::nullopt});
    m.watched.erase(held);
  }
  // When it must be looked at again.
  void settle(Memory& m, DueMap<Watched>::Held& held) const {
    const Watched& w = held.value;
    std::int64_t due = later(w.seen, std::max(watch_for, quiet));
    if (too_few) {
      const std::int64_t oldest =
          w.times.size() < threshold ? m.judged_from : std::max(m.judged_from, w.times.front());
      due = std::max(later(oldest, within), later(w.alerted, quiet));
    }
    m.watched.settle(held, due, charge());
  }

  void take(Batch& batch, StepTally& tally, Memory& m, const Seen::One& one, Turn& turn) const {
    auto& held = *m.watched.touch(one.key).first;
    Watched& w = held.value;
    w.seen = turn.now;
    w.changed = true;
    // What is ahead of the clock does not count for ever.
    const std::int64_t time = too_few ? std::min(one.time, turn.now) : one.time;
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(one.weight, most_times()); ++i)
      w.times.insert(std::upper_bound(w.times.begin(), w.times.end(), time), time);
    while (w.times.size() > most_times()) w.times.pop_front();
    if (!too_few && w.times.size() > threshold && w.times.back() - w.times.front() < within &&
        (time >= later(w.alerted, quiet) || time < w.alerted - quiet)) {
      w.alerted = time;
      const auto since =
          std::count_if(w.times.begin(), w.times.end(), [&](std::int64_t t) { return t > time - within; });
      make(batch, tally, m, held.key, static_cast<std::size_t>(since), time, turn);
    }
    settle(m, held);
  }
  // Those that are watched though nothing came of them yet.
  void expect(Memory& m, Turn& turn) const {
    const auto add = [&](const std::string& key) {
      const auto [held, added] = m.watched.touch(key);
      if (!added) return;
      held->value.seen = turn.now;
      settle(m, *held);
      note(*held, turn);
    };
    if (by.empty()) add(std::string(1, static_cast<char>(kKey)));
    const auto table = keys ? keys->now() : nullptr;
    if (table == nullptr) return;
    table->each_key([&](const Value& value) {
      std::string key;
      ByteWriter out(key);
      out.u8(kKey);
      write_value(out, value);
      if (m.watched.size() < most_keys) add(key);
      return m.watched.size() < most_keys;
    });
  }
  void look(Batch& batch, StepTally& tally, Memory& m, DueMap<Watched>::Held& held, Turn& turn) const {
    const bool expected = too_few && (by.empty() || (keys != nullptr && is_key(held.key)));
    if (!expected && later(held.value.seen, std::max(watch_for, quiet)) <= turn.now)
      return forget(m, held, turn);
    settle(m, held);  // where it is judged from may have moved
    if (held.due > turn.now) return;
    const auto since = std::count_if(held.value.times.begin(), held.value.times.end(),
                                     [&](std::int64_t t) { return t > turn.now - within; });
    held.value.alerted = turn.now;
    make(batch, tally, m, held.key, static_cast<std::size_t>(since), turn.now, turn);
    settle(m, held);
    note(held, turn);
  }
  bool is_key(const std::string& key) const {
    ByteReader in(key);
    const auto table = keys->now();
    if (table == nullptr || in.u8() != kKey) return false;
    const Value value = read_value(in);
    return in.ok() &&
           table->contains(value.is_textual() ? value.as_text() : std::string_view(value.to_string()));
  }

  void make(Batch& batch, StepTally& tally, Memory& m, const std::string& key, std::size_t count,
            std::int64_t time, Turn& turn) const {
    Event event;
    event.timestamp = time;
    event.observed = turn.now;
    event.position = m.serial++;
    event.slice = turn.slice;
    std::string body = called + ": " + (too_few ? "fewer than " : "more than ") + std::to_string(threshold) +
                       " within " + format_duration(within);
    if (too_few) body += ", " + std::to_string(count) + " came";
    ByteReader in(key);
    in.u8();
    for (std::size_t i = 0; i < by.size(); ++i) {
      OwnedValue owned;
      if (!owned.read(in)) break;
      const Value v = owned.value();
      if (v.absent()) continue;
      const Value kept = v.is_textual() ? Value::from_text(v.kind(), batch.arena.copy(v.as_text())) : v;
      event.set(batch.arena, by[i], kept);
      body += (i == 0 ? " for " : ", ") + by_names[i] + "=" + kept.to_string();
    }
    static const FieldId alert = field_id("dingle.alert"), counted = field_id("alert.count");
    event.set(batch.arena, alert, Value::text(called));
    event.set(batch.arena, counted, Value::integer(static_cast<std::int64_t>(count)));
    event.set(batch.arena, names::severity, Value::text(severity));
    event.body = batch.arena.copy(body);
    event.is_alert = true;
    batch.events.push_back(event);
    ++tally.created, ++tally.out;
  }
};

std::unique_ptr<Step> make_alert(const StepMaking& m) {
  auto step = std::make_unique<Alert>();
  step->called = m.options.text("called");
  step->severity = m.options.text("severity");
  step->by_names = m.options.texts("by");
  for (const std::string& name : step->by_names) step->by.push_back(field_id(name));
  const bool many = m.options.given("more_than"), few = m.options.given("fewer_than");
  if (many == few) {
    m.findings.error(m.options.place(), 1,
                     many ? "`alert` has both `more_than` and `fewer_than`"
                          : "`alert` has neither `more_than` nor `fewer_than`",
                     "one of the two; two steps may watch the same events");
    return nullptr;
  }
  step->too_few = few;
  step->threshold = static_cast<std::size_t>(m.options.number(few ? "fewer_than" : "more_than"));
  step->within = m.options.number("within");
  step->watch_for = m.options.number("watch_for");
  step->quiet = m.options.number("quiet");
  step->behind = m.options.number("behind");
  step->most_keys = static_cast<std::size_t>(m.options.number("most_keys"));
  if (m.options.given("keys")) {
    auto table = TableScope::find(m.options.text("keys"));
    if (!table) {
      m.findings.error(m.options.where("keys"), table.problem().message, table.problem().hint);
      return nullptr;
    }
    if (!few || step->by.size() != 1) {
      m.findings.error(m.options.where("keys"), "`keys` is for `fewer_than` with one field in `by`", "");
      return nullptr;
    }
    step->keys = *table;
  }
  return step;
}

const StepRegistration alert_step({kAlertSpec, make_alert, true, true});

}  // namespace
}  // namespace dingle

// unique: of events with equal values in some fields, one in a time.
//
// Memory: by key (a hash of the values) the time of the last event that passed.
#include <xxhash.h>

#include <algorithm>
#include <array>
#include <cstdlib>

#include "core/steps/due_map.h"
#include "core/steps/memory.h"
#include "core/steps/set_function.h"

namespace dingle {
namespace {

const ComponentSpec kUniqueSpec{
    "unique",
    "Lets the first event pass of those that have the same values in some fields, and drops what comes "
    "within a "
    "time of it. The time is the events' own, so that an imported file is treated as it would have been. An "
    "event that "
    "lacks one of the fields passes. What is known survives restarts and crashes.",
    "unique: { by: [booking.id, booking.state], within: 10m }",
    {{.name = "by",
      .type = OptionType::fields,
      .text = "The fields whose values are compared.",
      .required = true},
     {.name = "within",
      .type = OptionType::duration,
      .fallback = "10m",
      .text = "How far from the one that passed, by the events' time, another one is dropped.",
      .least = 1},
     {.name = "longest",
      .type = OptionType::duration,
      .fallback = "1h",
      .text =
          "How long a value is remembered after it was last seen, by the clock; not shorter than `within`.",
      .least = 1'000'000'000},
     {.name = "most_keys",
      .type = OptionType::integer,
      .fallback = "100000",
      .text =
          "How many are remembered; those that were not seen for longest are forgotten early, and counted.",
      .least = 1,
      .most = 500'000}}};

constexpr std::uint64_t kCharge = 400;  // bytes an entry

class Unique final : public MemoryStep {
 public:
  using Key = std::array<char, 16>;
  std::vector<std::string> by_names;
  std::vector<FieldId> by;
  std::int64_t within = 0, longest = 0;
  std::uint64_t most_keys = 0;

  struct Keys final : Prepared {
    struct One {
      std::size_t event = 0;
      Key key{};
    };
    std::vector<One> all;
  };
  class Memory final : public StepMemory {
   public:
    DueMap<std::int64_t> passed;  // the time of the event
    Size size() const override { return {passed.size(), passed.bytes(), 0}; }
    std::int64_t next_due() const override { return passed.next_due(); }
  };

  void follow(StepFields& fields) const override {
    for (const std::string& f : by_names) fields.reads("by", f);
  }
  std::unique_ptr<StepMemory> begin() const override { return std::make_unique<Memory>(); }
  bool restore(StepMemory& memory, std::string_view key, std::string_view value,
               std::int64_t now) const override {
    ByteReader in(value);
    const std::int64_t time = in.zigzag();
    if (!in.ok() || !in.at_end() || key.size() != sizeof(Key)) return false;
    auto& m = static_cast<Memory&>(memory);
    auto* held = m.passed.touch(key).first;
    held->value = time;
    m.passed.settle(*held, now + longest, kCharge);
    return true;
  }
  std::uint64_t most_bytes() const override { return most_keys * kCharge; }
  std::string meaning() const override {
    std::string text = "unique 1";
    for (const std::string& field : by_names) text += " " + field;
    return text;
  }

  std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const override {
    auto keys = std::make_unique<Keys>();
    std::string bytes;
    for (std::size_t i = 0; i < batch.events.size(); ++i) {
      const Event& event = batch.events[i];
      if (!takes(batch, event)) continue;
      ++tally.in;
      bytes.clear();
      ByteWriter out(bytes);
      bool whole = true;
      OwnedValue owned;
      for (const FieldId field : by) {
        const Value value = batch.get(event, field);
        whole = whole && !value.absent();
        owned.set(value);
        owned.write(out);
      }
      if (!whole) {
        ++tally.out;
        continue;
      }
      const XXH128_canonical_t hash = [&] {
        XXH128_canonical_t canonical;
        XXH128_canonicalFromHash(&canonical, XXH3_128bits(bytes.data(), bytes.size()));
        return canonical;
      }();
      Keys::One one{i, {}};
      std::copy(std::begin(hash.digest), std::end(hash.digest), one.key.begin());
      keys->all.push_back(one);
    }
    return keys;
  }

  void turn(Batch& batch, StepTally& tally, Prepared* prepared, StepMemory& memory,
            Turn& turn) const override {
    auto& m = static_cast<Memory&>(memory);
    if (const auto* keys = static_cast<const Keys*>(prepared))
      for (const Keys::One& one : keys->all) take(batch.events[one.event], one.key, tally, m, turn);
    while (m.passed.size() > most_keys) {
      ++tally.early;
      forget(m, m.passed.oldest(), turn);
    }
    if (turn.why == Turn::Why::events) return;
    const bool all = turn.why == Turn::Why::everything;
    for (std::size_t i = 0; (all || i < Turn::kMostAtOnce) && m.passed.size() != 0; ++i) {
      if (!all && m.passed.next_due() > turn.now) break;
      forget(m, m.passed.first_due(), turn);
    }
  }

 private:
  void take(Event& event, const Key& key, StepTally& tally, Memory& m, Turn& turn) const {
    const std::string_view text(key.data(), key.size());
    auto [held, added] = m.passed.touch(text);
    m.passed.settle(*held, turn.now + longest, kCharge);
    std::int64_t distance = 0;
    const bool near = !added && !__builtin_sub_overflow(event.timestamp, held->value, &distance) &&
                      distance > -within && distance < within;
    if (near) {
      event.dropped_by = number;
      ++tally.dropped;
      return;
    }
    ++tally.out;
    held->value = added ? event.timestamp : std::max(held->value, event.timestamp);
    std::string value;
    ByteWriter(value).zigzag(held->value);
    turn.changes.push_back({std::string(text), std::move(value)});
  }

  static void forget(Memory& m, DueMap<std::int64_t>::Held& held, Turn& turn) {
    turn.changes.push_back({held.key, std::nullopt});
    m.passed.erase(held);
  }
};

std::unique_ptr<Step> make_unique(const StepMaking& m) {
  auto step = std::make_unique<Unique>();
  step->by_names = m.options.texts("by");
  for (const std::string& name : step->by_names) step->by.push_back(field_id(name));
  step->within = m.options.number("within");
  step->longest = std::max(m.options.number("longest"), step->within);
  step->most_keys = static_cast<std::uint64_t>(m.options.number("most_keys"));
  if (step->by_names.empty()) {
    m.findings.error(m.options.where("by"), "`by` names no field", "name those whose values are compared");
    return nullptr;
  }
  return step;
}

const StepRegistration unique_step({kUniqueSpec, make_unique, true});

}  // namespace
}  // namespace dingle

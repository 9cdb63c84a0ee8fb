// Steps that let some events pass of those with equal values in some fields, and drop the others.
//
// Memory: by key (a hash of the values, and of what the step adds) up to four numbers.
#pragma once

#include <xxhash.h>

#include <algorithm>
#include <array>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "core/steps/due_map.h"
#include "core/steps/memory.h"
#include "core/steps/set_function.h"

namespace dingle {

class KeyedGate : public MemoryStep {
 public:
  using Key = std::array<char, 16>;
  std::vector<std::string> by_names;
  std::vector<FieldId> by;
  std::int64_t longest = 0;  // ns that a key is remembered after it was last seen
  std::uint64_t most_keys = 0;

  struct Keys final : Prepared {
    struct One {
      std::size_t event = 0;
      Key key{};
    };
    std::vector<One> all;
  };
  // What a key holds.
  class Numbers {
   public:
    static constexpr std::size_t kMost = 4;
    std::span<std::int64_t> all() { return {numbers_.data(), size_}; }
    std::span<const std::int64_t> all() const { return {numbers_.data(), size_}; }
    bool full() const { return size_ == kMost; }
    void add(std::int64_t number) { numbers_.at(size_++) = number; }
    friend bool operator==(const Numbers& a, const Numbers& b) {
      return std::ranges::equal(a.all(), b.all());
    }

   private:
    std::array<std::int64_t, kMost> numbers_{};
    std::size_t size_ = 0;
  };
  class Memory final : public StepMemory {
   public:
    DueMap<Numbers> passed;
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
    Numbers numbers;
    while (!in.at_end() && in.ok() && !numbers.full()) numbers.add(in.zigzag());
    if (!in.ok() || !in.at_end() || key.size() != sizeof(Key)) return false;
    auto& m = static_cast<Memory&>(memory);
    auto* held = m.passed.touch(key).first;
    held->value = numbers;
    m.passed.settle(*held, now + longest, kCharge);
    return true;
  }
  std::uint64_t most_bytes() const override { return most_keys * kCharge; }
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
      add_to_key(event, out);
      if (!whole && needs_all()) {
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

 protected:
  static constexpr std::uint64_t kCharge = 400;  // bytes an entry
  // An event that lacks a field passes, and is not remembered; else it is one of those without the field.
  virtual bool needs_all() const = 0;
  virtual void add_to_key(const Event&, ByteWriter&) const {}
  // Whether the event passes; `remembered` is what its key holds, nothing if it is new, and may be changed.
  virtual bool passes(const Event& event, Numbers& remembered) const = 0;

 private:
  void take(Event& event, const Key& key, StepTally& tally, Memory& m, Turn& turn) const {
    const std::string_view text(key.data(), key.size());
    auto [held, added] = m.passed.touch(text);
    m.passed.settle(*held, turn.now + longest, kCharge);
    const Numbers before = held->value;
    if (passes(event, held->value)) {
      ++tally.out;
    } else {
      event.dropped_by = number;
      ++tally.dropped;
    }
    if (!added && held->value == before) return;
    std::string value;
    for (const std::int64_t n : held->value.all()) ByteWriter(value).zigzag(n);
    turn.changes.push_back({std::string(text), std::move(value)});
  }
  static void forget(Memory& m, DueMap<Numbers>::Held& held, Turn& turn) {
    turn.changes.push_back({held.key, std::nullopt});
    m.passed.erase(held);
  }
};

}  // namespace dingle

// A table from encoded keys to what was counted of them. Entries never move. A key is encoded only where its hash may be there, or is
// to be added: one that is not there costs one look at a bit as a rule. Not bounded: who uses it looks at `size` and `key_bytes`.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace dingle {

template <class Counted>
class GroupTable {
 public:
  struct Entry {
    std::uint64_t hash = 0;
    std::string key;
    Counted counted;
  };

  std::size_t size() const { return entries_.size(); }
  std::size_t key_bytes() const { return key_bytes_; }
  std::deque<Entry>& entries() { return entries_; }  // in the order in which they were added

  // Null if it is not there and may not be added. `encoded()` gives the key, which stays valid until the next call; equal keys have
  // equal hashes.
  template <class Encoded>
  Counted* find(std::uint64_t hash, Encoded&& encoded, bool may_add) {
    const std::size_t bit = hash >> (64 - kBitsLog);
    if (!may_be_there_[bit] && !may_add) return nullptr;
    const std::string_view key = encoded();
    if (may_be_there_[bit]) {
      for (std::size_t at = hash & mask();; at = (at + 1) & mask()) {
        if (slots_[at].entry == nullptr) break;
        if (slots_[at].hash == hash && slots_[at].entry->key == key) return &slots_[at].entry->counted;
      }
    }
    if (!may_add) return nullptr;
    may_be_there_[bit] = true;
    key_bytes_ += key.size();
    Entry& added = entries_.emplace_back(Entry{hash, std::string(key), {}});
    if (2 * entries_.size() > slots_.size()) {
      const std::vector<Slot> before = std::exchange(slots_, std::vector<Slot>(2 * slots_.size()));
      for (const Slot& slot : before)
        if (slot.entry != nullptr) put(slot);
    }
    put({hash, &added});
    return &added.counted;
  }

 private:
  static constexpr unsigned kBitsLog = 20;
  struct Slot {
    std::uint64_t hash = 0;
    Entry* entry = nullptr;
  };
  std::size_t mask() const { return slots_.size() - 1; }
  void put(const Slot& slot) {
    std::size_t at = slot.hash & mask();
    while (slots_[at].entry != nullptr) at = (at + 1) & mask();
    slots_[at] = slot;
  }

  std::deque<Entry> entries_;
  std::vector<Slot> slots_ = std::vector<Slot>(1024);  // a power of two, at most half of them taken
  std::vector<bool> may_be_there_ = std::vector<bool>(std::size_t{1} << kBitsLog);
  std::size_t key_bytes_ = 0;
};

}  // namespace dingle

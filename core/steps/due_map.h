// Entries by key, each of which is due at some moment; the least recently touched is at hand as well. All calls
// cost O(log n) or less.
#pragma once

#include <cstdint>
#include <list>
#include <map>
#include <string>
#include <string_view>
#include <unordered_map>
#include <utility>

#include "core/steps/memory.h"

namespace dingle {

template <class T>
class DueMap {
 public:
  struct Held {
    std::string key;
    T value;
    std::int64_t due = kNever;
    std::uint64_t bytes = 0;   // that it is charged with
    std::uint64_t number = 0;  // of those that are due at one moment, the first that came goes first
  };
  using Place = typename std::list<Held>::iterator;

  std::size_t size() const { return recent_.size(); }
  std::uint64_t bytes() const { return bytes_; }
  std::int64_t next_due() const { return due_.empty() ? kNever : due_.begin()->first.first; }

  Held* find(std::string_view key) {
    const auto found = by_key_.find(key);
    return found == by_key_.end() ? nullptr : &*found->second;
  }
  // The entry of that key, made if there is none; from now on the most recently touched.
  std::pair<Held*, bool> touch(std::string_view key) {
    if (const auto found = by_key_.find(key); found != by_key_.end()) {
      recent_.splice(recent_.end(), recent_, found->second);
      return {&*found->second, false};
    }
    recent_.push_back({std::string(key), T(), kNever, 0, next_number_++});
    const Place place = std::prev(recent_.end());
    by_key_.emplace(place->key, place);
    due_.emplace(std::pair{place->due, place->number}, place);
    return {&*place, true};
  }
  void settle(Held& held, std::int64_t due, std::uint64_t bytes) {
    bytes_ += bytes - held.bytes;
    held.bytes = bytes;
    if (due == held.due) return;
    auto node = due_.extract({held.due, held.number});
    held.due = due;
    node.key().first = due;
    due_.insert(std::move(node));
  }
  void erase(Held& held) {
    bytes_ -= held.bytes;
    due_.erase({held.due, held.number});
    const auto found = by_key_.find(held.key);
    const Place place = found->second;
    by_key_.erase(found);
    recent_.erase(place);
  }
  Held& oldest() { return recent_.front(); }  // the least recently touched
  Held& first_due() { return *due_.begin()->second; }

 private:
  std::list<Held> recent_;  // the least recently touched first
  std::unordered_map<std::string_view, Place> by_key_;
  std::map<std::pair<std::int64_t, std::uint64_t>, Place> due_;
  std::uint64_t next_number_ = 0;
  std::uint64_t bytes_ = 0;
};

}  // namespace dingle

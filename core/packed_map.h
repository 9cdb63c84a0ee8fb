// A sorted map from texts to bytes in little memory: what stands in it, and some 20 bytes an entry.
//
// Entries lie one behind the other in leaves of some 2 KiB, each key without what it shares with the one before it. A leaf never
// changes, but for the last one before it is shared: who changes an entry writes its leaf anew. So a copy shares the leaves, and
// costs a pointer for each.
// Not thread-safe, nor is being copied; copies may be used by other threads.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>

namespace dingle {

class PackedMap {
 public:
  // A way through the entries of one leaf.
  class Walk {
   public:
    explicit Walk(std::string_view leaf) : leaf_(leaf) {}
    bool next();                                   // false at the end
    std::string_view key() const { return key_; }  // until `next`
    std::string_view value() const { return value_; }
    std::size_t begin() const { return begin_; }  // of the entry, in the leaf
    std::size_t end() const { return end_; }
    std::size_t value_begin() const { return value_begin_; }  // of its length and itself

   private:
    std::string_view leaf_, value_;
    std::string key_;
    std::size_t begin_ = 0, end_ = 0, value_begin_ = 0;
  };

  PackedMap() = default;
  PackedMap(const PackedMap& other) { *this = other; }
  PackedMap& operator=(const PackedMap& other) {
    leaves_ = other.leaves_;
    size_ = other.size_, bytes_ = other.bytes_;
    other.last_.reset();  // its leaf is shared from now on
    last_.reset();
    return *this;
  }
  PackedMap(PackedMap&& other) noexcept { *this = std::move(other); }
  PackedMap& operator=(PackedMap&& other) noexcept {
    leaves_ = std::exchange(other.leaves_, {});
    size_ = std::exchange(other.size_, 0), bytes_ = std::exchange(other.bytes_, 0);
    last_ = std::exchange(other.last_, std::nullopt);
    return *this;
  }

  // All cost O(log n) and a walk through a leaf; a key behind all others less.
  bool put(std::string_view key, std::string_view value);  // whether the key is new
  bool erase(std::string_view key);                        // whether it was there
  bool find(std::string_view key, std::string& value) const;
  bool contains(std::string_view key) const;
  std::optional<std::string> value(std::string_view key) const;
  void clear() { *this = PackedMap(); }

  std::size_t size() const { return size_; }
  bool empty() const { return size_ == 0; }
  std::uint64_t bytes() const { return bytes_; }  // of keys and values

  // Calls `to(key, value)`, in the keys' order, beginning with the first that is not below `from`, until it answers false. Both are
  // views that hold until the call ends.
  template <class To>
  void each_from(std::string_view from, To&& to) const {
    auto leaf = leaves_.upper_bound(from);
    if (leaf != leaves_.begin()) --leaf;
    for (; leaf != leaves_.end(); ++leaf)
      for (Walk walk(*leaf->second); walk.next();)
        if (walk.key() >= from && !to(walk.key(), walk.value())) return;
  }
  template <class To>
  void each(To&& to) const {
    each_from("", [&](std::string_view key, std::string_view value) { return to(key, value), true; });
  }
  template <class To>
  void each_with_prefix(std::string_view prefix, To&& to) const {
    each_from(prefix, [&](std::string_view key, std::string_view value) {
      return key.starts_with(prefix) && (to(key, value), true);
    });
  }

 private:
  // By their first keys; only that of the very first may be above a key that is looked for.
  using Leaves = std::map<std::string, std::shared_ptr<const std::string>, std::less<>>;
  Leaves::iterator leaf_of(std::string_view key);
  bool seek(std::string_view key, std::string_view& value) const;
  void set(Leaves::iterator leaf, std::string bytes, bool grew_at_end);
  void merge(Leaves::iterator leaf);

  bool put_last(std::string_view key, std::string_view value);

  Leaves leaves_;
  std::size_t size_ = 0;
  std::uint64_t bytes_ = 0;
  // The greatest key and its leaf, while that grows in its place.
  struct Last {
    std::string key;
    std::shared_ptr<std::string> leaf;
  };
  mutable std::optional<Last> last_;
};

}  // namespace dingle

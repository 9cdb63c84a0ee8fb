#include "core/packed_map.h"

#include <algorithm>

#include "core/bytes.h"

namespace dingle {
namespace {

constexpr std::size_t kLargestLeaf = 2048;

// varint shared with the key before, text rest, text value.
void write_entry(std::string& to, std::string_view before, std::string_view key, std::string_view value) {
  const auto differs = std::mismatch(before.begin(), before.end(), key.begin(), key.end());
  const auto shared = static_cast<std::size_t>(differs.second - key.begin());
  ByteWriter out(to);
  out.varint(shared);
  out.text(key.substr(shared));
  out.text(value);
}

}  // namespace

bool PackedMap::Walk::next() {
  if (end_ == leaf_.size()) return false;
  begin_ = end_;
  ByteReader in(leaf_.substr(begin_));
  key_.resize(in.varint());
  key_ += in.text();
  value_begin_ = leaf_.size() - in.left();
  value_ = in.text();
  end_ = leaf_.size() - in.left();
  return true;
}

PackedMap::Leaves::iterator PackedMap::leaf_of(std::string_view key) {
  auto leaf = leaves_.upper_bound(key);
  if (leaf == leaves_.begin()) return leaf;
  return std::prev(leaf);
}

bool PackedMap::seek(std::string_view key, std::string_view& value) const {
  auto leaf = leaves_.upper_bound(key);
  if (leaf == leaves_.begin()) return false;
  for (Walk walk(*std::prev(leaf)->second); walk.next();)
    if (walk.key() >= key) return value = walk.value(), walk.key() == key;
  return false;
}

bool PackedMap::find(std::string_view key, std::string& value) const {
  std::string_view there;
  if (!seek(key, there)) return false;
  value = there;
  return true;
}

bool PackedMap::contains(std::string_view key) const {
  std::string_view there;
  return seek(key, there);
}

std::optional<std::string> PackedMap::value(std::string_view key) const {
  std::string_view there;
  return seek(key, there) ? std::optional(std::string(there)) : std::nullopt;
}

// Behind all others, in a leaf of its own kind that nobody shares.
bool PackedMap::put_last(std::string_view key, std::string_view value) {
  if (!last_ || last_->leaf->size() + key.size() + value.size() > kLargestLeaf) {
    auto leaf = std::make_shared<std::string>();
    leaf->reserve(kLargestLeaf);
    if (last_) last_->leaf->shrink_to_fit();
    leaves_.emplace_hint(leaves_.end(), key, leaf);
    last_ = {"", std::move(leaf)};
  }
  write_entry(*last_->leaf, last_->key, key, value);
  last_->key = key;
  ++size_;
  bytes_ += key.size() + value.size();
  return true;
}

bool PackedMap::put(std::string_view key, std::string_view value) {
  if (last_ ? key > last_->key : leaves_.empty()) return put_last(key, value);
  auto leaf = leaf_of(key);
  if (leaf == leaves_.end()) {
    leaf = leaves_.emplace(std::string(key), std::make_shared<const std::string>()).first;
  } else if (key < leaf->first) {
    auto node = leaves_.extract(leaf);
    node.key() = key;
    leaf = leaves_.insert(std::move(node)).position;
  }
  const std::string& now = *leaf->second;
  std::string before, bytes;
  bytes.reserve(now.size() + key.size() + value.size() + 20);
  Walk walk(now);
  bool further = false;
  while ((further = walk.next()) && walk.key() < key) before = walk.key();
  if (further && walk.key() == key) {
    if (walk.value() == value) return false;
    bytes_ += value.size() - walk.value().size();
    bytes.append(now, 0, walk.value_begin());
    ByteWriter(bytes).text(value);
    bytes.append(now, walk.end());
    set(leaf, std::move(bytes), false);
    return false;
  }
  bytes.append(now, 0, further ? walk.begin() : now.size());
  write_entry(bytes, before, key, value);
  if (further) {
    write_entry(bytes, key, walk.key(), walk.value());
    bytes.append(now, walk.end());
  }
  ++size_;
  bytes_ += key.size() + value.size();
  set(leaf, std::move(bytes), !further && std::next(leaf) == leaves_.end());
  return true;
}

bool PackedMap::erase(std::string_view key) {
  const auto leaf = leaf_of(key);
  if (leaf == leaves_.end()) return false;
  const std::string& now = *leaf->second;
  std::string before;
  Walk walk(now);
  bool further = false;
  while ((further = walk.next()) && walk.key() < key) before = walk.key();
  if (!further || walk.key() != key) return false;
  if (last_ && leaf->second == last_->leaf) last_.reset();
  --size_;
  bytes_ -= key.size() + walk.value().size();
  std::string bytes(now, 0, walk.begin());
  if (walk.next()) {
    write_entry(bytes, before, walk.key(), walk.value());
    bytes.append(now, walk.end());
  }
  if (bytes.empty()) return leaves_.erase(leaf), true;
  leaf->second = std::make_shared<const std::string>(std::move(bytes));
  merge(leaf);
  return true;
}

// What grows at its end is full when it is parted: keys often come in their order.
void PackedMap::set(Leaves::iterator leaf, std::string bytes, bool grew_at_end) {
  if (last_ && leaf->second == last_->leaf) last_.reset();
  if (bytes.size() > kLargestLeaf) {
    Walk walk(bytes), second = walk;
    walk.next();
    while (walk.next()) {
      second = walk;
      if (!grew_at_end && walk.end() > bytes.size() / 2) break;
    }
    if (second.begin() != 0) {
      std::string right;
      write_entry(right, "", second.key(), second.value());
      right.append(bytes, second.end());
      leaves_.emplace(second.key(), std::make_shared<const std::string>(std::move(right)));
      bytes.resize(second.begin());
    }
  }
  bytes.shrink_to_fit();
  leaf->second = std::make_shared<const std::string>(std::move(bytes));
}

void PackedMap::merge(Leaves::iterator leaf) {
  const auto next = std::next(leaf);
  if (last_ && next != leaves_.end() && next->second == last_->leaf) last_.reset();
  if (leaf->second->size() > kLargestLeaf / 4 || next == leaves_.end() ||
      leaf->second->size() + next->second->size() > kLargestLeaf / 2)
    return;
  std::string bytes = *leaf->second, last;
  for (Walk walk(bytes); walk.next();) last = walk.key();
  Walk first(*next->second);
  first.next();
  write_entry(bytes, last, first.key(), first.value());
  bytes.append(*next->second, first.end());
  leaf->second = std::make_shared<const std::string>(std::move(bytes));
  leaves_.erase(next);
}

}  // namespace dingle

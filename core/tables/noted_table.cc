#include "core/tables/noted_table.h"

#include <algorithm>
#include <limits>

#include "core/value_bytes.h"

namespace dingle {
namespace {

// The key's value; where only its kind stands there, its text is the key.
Value read_key(ByteReader& in, std::string_view key) {
  const bool as_it_is = in.u8() != 0;
  if (!as_it_is) return read_value(in);
  const std::uint8_t kind = in.u8();
  if (kind > static_cast<std::uint8_t>(Kind::map) || !kept_as_text(static_cast<Kind>(kind)))
    return in.fail(), Value();
  return Value::from_text(static_cast<Kind>(kind), key);
}

std::int64_t order_of(std::string_view remembered) { return ByteReader(remembered).zigzag(); }

// Behind the order.
std::string_view row_of(std::string_view remembered) {
  ByteReader in(remembered);
  in.zigzag();
  return in.rest();
}

}  // namespace

void NotedTable::write_row(const Value& key, std::string_view key_text, std::span<const Value> columns,
                           ByteWriter& out) {
  const bool as_it_is = kept_as_text(key.kind()) && key.as_text() == key_text;
  out.u8(as_it_is);
  if (as_it_is)
    out.u8(static_cast<std::uint8_t>(key.kind()));
  else
    write_value(out, key);
  for (const Value& v : columns) write_value(out, v);
}

std::string NotedTable::note(std::string_view key, std::string_view row, std::int64_t now,
                             std::int64_t fresh) {
  std::string before;
  if (rows_.find(key, before) && row_of(before) == row && order_of(before) > now - fresh) return "";
  newest_ = std::max(now, newest_ + 1);
  std::string remembered;
  ByteWriter out(remembered);
  out.zigzag(newest_);
  out.raw(row);
  const std::lock_guard lock(mutex_);
  if (rows_.empty()) oldest_ = newest_;
  rows_.put(key, remembered);
  return remembered;
}

bool NotedTable::restore(std::string_view key, std::string_view remembered) {
  ByteReader in(remembered);
  const std::int64_t order = in.zigzag();
  read_key(in, key);
  for (std::size_t i = 0; i < columns_.size(); ++i) read_value(in);
  if (!in.ok() || !in.at_end()) return false;
  const std::lock_guard lock(mutex_);
  rows_.put(key, remembered);
  oldest_ = std::min(oldest_, order);
  newest_ = std::max(newest_, order);
  return true;
}

bool NotedTable::forget(std::string_view key) {
  const std::lock_guard lock(mutex_);
  if (!rows_.erase(key)) return false;
  if (rows_.empty()) oldest_ = std::numeric_limits<std::int64_t>::max();
  return true;
}

std::vector<std::string> NotedTable::forget_before(std::int64_t limit, std::size_t most) {
  std::vector<std::string> gone;
  std::int64_t oldest = std::numeric_limits<std::int64_t>::max();
  rows_.each([&](std::string_view key, std::string_view remembered) {
    const std::int64_t order = order_of(remembered);
    if (order < limit && gone.size() < most)
      gone.emplace_back(key);
    else
      oldest = std::min(oldest, order);
  });
  for (const std::string& key : gone) forget(key);
  oldest_ = oldest;
  return gone;
}

std::int64_t NotedTable::moment_of(std::size_t rows) const {
  std::vector<std::int64_t> orders;
  orders.reserve(rows_.size());
  rows_.each([&](std::string_view, std::string_view remembered) { orders.push_back(order_of(remembered)); });
  if (rows == 0 || orders.empty()) return std::numeric_limits<std::int64_t>::min();
  const auto at = orders.begin() + static_cast<std::ptrdiff_t>(std::min(rows, orders.size()) - 1);
  std::nth_element(orders.begin(), at, orders.end());
  return *at + 1;
}

std::span<const Value> NotedTable::find(std::string_view key, Found& found) const {
  {
    const std::shared_lock lock(mutex_);
    if (!rows_.find(key, found.bytes)) return {};
  }
  ByteReader in(found.bytes);
  in.zigzag();
  read_key(in, key);
  found.values.clear();
  for (std::size_t i = 0; i < columns_.size(); ++i) found.values.push_back(read_value(in));
  return found.values;
}

bool NotedTable::contains(std::string_view key) const {
  const std::shared_lock lock(mutex_);
  return rows_.contains(key);
}

void NotedTable::each_key(const std::function<bool(const Value&)>& to) const {
  const PackedMap rows = [&] {
    const std::shared_lock lock(mutex_);
    return rows_;
  }();
  rows.each_from("", [&](std::string_view key, std::string_view remembered) {
    ByteReader in(remembered);
    in.zigzag();
    return to(read_key(in, key));
  });
}

std::size_t NotedTable::size() const {
  const std::shared_lock lock(mutex_);
  return rows_.size();
}

}  // namespace dingle

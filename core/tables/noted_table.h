// A table that a step fills from events. One writes, whose turn it is; any number read meanwhile.
//
// A row is bytes: zigzag order, the key's value (its kind alone, where it is the key's own text), then a value for each column.
#pragma once

#include <shared_mutex>

#include "core/bytes.h"
#include "core/packed_map.h"
#include "core/tables/table.h"

namespace dingle {

class NotedTable final : public Table {
 public:
  explicit NotedTable(std::vector<std::string> columns) : columns_(std::move(columns)) {}

  // What stands in a row behind its order.
  static void write_row(const Value& key, std::string_view key_text, std::span<const Value> columns,
                        ByteWriter& out);

  // ---- by who writes ----
  // `row`: what write_row wrote. It has a place behind all others in the order in which rows are forgotten; `now` (ns since 1970 UTC)
  // says when that was. Answers the row as it is remembered; "": it is the same as before, and was noted within `fresh` ns.
  std::string note(std::string_view key, std::string_view row, std::int64_t now, std::int64_t fresh);
  bool restore(std::string_view key, std::string_view remembered);  // false: it is no row of this table
  bool forget(std::string_view key);
  // Forgets what was noted before `limit`, at most so many rows; their keys. Walks through all of them.
  std::vector<std::string> forget_before(std::int64_t limit, std::size_t most);
  // The moment before which there are at least so many rows.
  std::int64_t moment_of(std::size_t rows) const;
  std::int64_t oldest() const { return oldest_; }  // nothing was noted before; INT64_MAX: there are no rows
  std::uint64_t bytes() const { return rows_.bytes(); }

  // ---- thread-safe ----
  std::span<const Value> find(std::string_view key, Found& found) const override;
  bool contains(std::string_view key) const override;
  const std::vector<std::string>& columns() const override { return columns_; }
  void each_key(const std::function<bool(const Value&)>& to) const override;
  std::size_t size() const override;

 private:
  const std::vector<std::string> columns_;
  mutable std::shared_mutex mutex_;  // of `rows_`; who writes reads without it
  PackedMap rows_;
  std::int64_t oldest_ = INT64_MAX, newest_ = 0;
};

}  // namespace dingle

// A table of PostgreSQL's that events go to: which columns it has and what fills them, and its partitions.
#pragma once

#include <cstdint>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "agent/destinations/destination.h"
#include "agent/destinations/postgres_connection.h"
#include "agent/destinations/postgres_rows.h"

namespace dingle {

// What the configuration says of tables.
struct PgTableSettings {
  struct Column {
    std::string name, type;  // type: one of ours, such as int
    FieldId field = kNoField;
  };
  explicit PgTableSettings(const Options& options);
  bool has(std::string_view column) const;
  bool by_field;                // a field of the event is part of the table's name
  bool create;                  // the table, its columns and partitions, where they are missing
  std::string partition;        // day, month, none
  std::vector<Column> columns;  // for fields; they go before columns of the same name that every table has
};
void check_pg_table(const Options& options, Findings& findings);

std::string pg_literal(std::string_view text);
std::string pg_quoted_table(const PgConnection& connection, const std::string& table);  // with its schema

// Used with one connection, by one thread.
class PgTable {
 public:
  // Looks the table up, and makes it and what it lacks, if it may. Nothing: `problem` says why; if it is
  // empty, the connection does. A table whose name comes from an event is only taken if it was made here (it has a comment
  // that says so): else a line could name any table of the database.
  static std::optional<PgTable> learn(PgConnection& connection, const PgTableSettings& settings,
                                      const std::string& name, std::string& problem);
  const std::vector<PgColumn>& columns() const { return columns_; }
  // Makes the partitions that the events need and that are not known to be there. False: see the connection.
  bool make_partitions(PgConnection& connection, std::span<const DeliveryEvent> events);
  // Whether a refused event may only lack a partition that was there once and was dropped since; answers so
  // once, and has all of them made again.
  bool may_lack_partition(const PgError& error);
  void took() { doubted_ = false; }  // a batch was taken

 private:
  PgTable(const PgTableSettings& settings, std::string name) : settings_(&settings), name_(std::move(name)) {}
  bool makes_partitions() const {
    return partitioned_ && settings_->create && settings_->partition != "none";
  }
  std::int64_t partition_of(std::int64_t time) const;
  const PgTableSettings* settings_;
  std::string name_;
  std::vector<PgColumn> columns_;
  bool partitioned_ = false, doubted_ = false;
  bool others_ = false;                // the partition of wild times is there
  std::set<std::int64_t> partitions_;  // their first days, as made or found by us
};

}  // namespace dingle

// Look-up tables: values by a key. What is in them comes from files (agent/tables) or from events (noted_table.h).
//
// A TableHandle is the name under which the newest table is found while the program runs.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "core/result.h"
#include "core/value.h"

namespace dingle {

class PlaceTable;

class Table {
 public:
  // Where values stand that the table does not keep as they are; used again for the next row.
  struct Found {
    std::string bytes;
    std::vector<Value> values;
  };
  virtual ~Table() = default;
  // The values of the columns, as long as table and `found` live and until `found` is used again; empty if there is no row.
  virtual std::span<const Value> find(std::string_view key, Found& found) const = 0;
  virtual bool contains(std::string_view key) const {
    Found found;
    return !find(key, found).empty();
  }
  virtual const std::vector<std::string>& columns() const = 0;
  // Those of whole values, each once, typed as they came, in no order, until it answers false.
  virtual void each_key(const std::function<bool(const Value&)>& to) const = 0;
  virtual std::size_t size() const = 0;                         // rows; of places those that were looked at
  virtual std::uint64_t doubled() const { return 0; }           // keys that came again
  virtual const PlaceTable* places() const { return nullptr; }  // itself, if it is one
};

// Thread-safe.
class TableHandle {
 public:
  enum class Form {
    rows,    // read from a file
    noted,   // filled by a step
    places,  // a database of places
  };
  explicit TableHandle(std::string name, Form form = Form::rows, std::vector<std::string> columns = {})
      : form(form), noted_columns(std::move(columns)), name_(std::move(name)) {}
  const std::string& name() const { return name_; }
  const Form form;
  const std::vector<std::string> noted_columns;  // of Form::noted
  std::shared_ptr<const Table> now() const {
    const std::lock_guard lock(mutex_);
    return table_;
  }
  void put(std::shared_ptr<const Table> table) {
    const std::lock_guard lock(mutex_);
    table_.swap(table);
  }

 private:
  const std::string name_;
  mutable std::mutex mutex_;
  std::shared_ptr<const Table> table_;  // nullptr until there was a first one
};
using Tables = std::map<std::string, std::shared_ptr<TableHandle>, std::less<>>;

// While it lives, what the thread parses may name these tables.
class TableScope {
 public:
  explicit TableScope(const Tables& tables);
  ~TableScope();
  TableScope(const TableScope&) = delete;
  TableScope& operator=(const TableScope&) = delete;
  // The table of that name, or a problem with the nearest one.
  static Result<std::shared_ptr<TableHandle>> find(std::string_view name);

 private:
  const Tables* before_;
};

}  // namespace dingle

#include "agent/tables/table_watch.h"

#include <algorithm>
#include <chrono>

#include "agent/guarded.h"

namespace dingle {

TableWatch::TableWatch(std::function<std::vector<TableSettings>()> tables, Problems& problems)
    : tables_(std::move(tables)), problems_(problems), thread_([this] {
        std::unique_lock lock(mutex_);
        while (!stop_.wait_for(lock, std::chrono::milliseconds(200), [this] { return stops_; }))
          guarded(problems_, "tables: unforeseen", [this] { look(); });
      }) {}

TableWatch::~TableWatch() {
  {
    const std::lock_guard lock(mutex_);
    stops_ = true;
  }
  stop_.notify_all();
  thread_.join();
}

void TableWatch::look() {
  const std::vector<TableSettings> tables = tables_();
  std::map<const TableHandle*, Seen> kept;
  for (const TableSettings& table : tables) {
    const auto known = seen_.find(table.handle.get());
    Seen seen = known != seen_.end() ? known->second : Seen{{}, table.read};
    if (known == seen_.end() && table.handle->now() != nullptr && std::erase(told_, table.name) != 0)
      problems_.clear("table " + table.name);  // read with another configuration
    look_at(table, seen);
    kept.emplace(table.handle.get(), seen);
  }
  seen_ = std::move(kept);
  std::erase_if(told_, [&](const std::string& name) {
    const bool gone =
        std::none_of(tables.begin(), tables.end(), [&](const TableSettings& t) { return t.name == name; });
    if (gone) problems_.clear("table " + name);
    return gone;
  });
}

void TableWatch::look_at(const TableSettings& table, Seen& seen) {
  const FileStamp now = FileStamp::of(table.file);
  const bool still = now == seen.last;
  seen.last = now;
  if (!still || (now == seen.read && table.handle->now() != nullptr)) return;
  if (now == seen.read && std::find(told_.begin(), told_.end(), table.name) != told_.end())
    return;  // as bad as before
  auto read = load_table(table);
  if (FileStamp::of(table.file) != now) return;  // it changed meanwhile
  seen.read = now;
  if (!read) {
    problems_.set("table " + table.name,
                  read.problem().message +
                      (table.handle->now() ? "; the table as it was stays" : "; nothing is found in it"));
    if (std::find(told_.begin(), told_.end(), table.name) == told_.end()) told_.push_back(table.name);
    return;
  }
  table.handle->put(*read);
  if (std::erase(told_, table.name) != 0) problems_.clear("table " + table.name);
  problems_.note("table " + table.name,
                 std::to_string((*read)->size()) + " rows read" +
                     ((*read)->doubled() == 0 ? ""
                                              : "; " + std::to_string((*read)->doubled()) +
                                                    " keys came again, and the last counts"));
}

}  // namespace dingle

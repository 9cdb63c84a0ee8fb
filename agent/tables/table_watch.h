// Reads tables anew when their files change.
#pragma once

#include <condition_variable>
#include <functional>
#include <map>
#include <mutex>
#include <thread>
#include <vector>

#include "agent/problems.h"
#include "agent/tables/table_file.h"

namespace dingle {

// A file that looks the same twice, 200 ms apart, and not as it was read, is read. One that cannot be read, or is not sound, leaves
// the table as it was; a problem says so while that lasts.
class TableWatch {
 public:
  // `tables`: those that are in use now; called by the thread.
  TableWatch(std::function<std::vector<TableSettings>()> tables, Problems& problems);
  ~TableWatch();
  TableWatch(const TableWatch&) = delete;
  TableWatch& operator=(const TableWatch&) = delete;

 private:
  struct Seen {
    FileStamp last, read;
  };
  void look();
  void look_at(const TableSettings& table, Seen& seen);

  std::function<std::vector<TableSettings>()> tables_;
  Problems& problems_;
  std::map<const TableHandle*, Seen> seen_;
  std::vector<std::string> told_;
  std::mutex mutex_;
  std::condition_variable stop_;
  bool stops_ = false;
  std::thread thread_;
};

}  // namespace dingle

// Tables from files: CSV (RFC 4180, the first line names the columns), NDJSON (an object a line), or places (place_file.h).
#pragma once

#include <memory>
#include <string>

#include "core/options/options.h"
#include "core/tables/table.h"

namespace dingle {

const std::vector<OptionSpec>& table_options();

// What tells one state of a file from another.
struct FileStamp {
  std::uint64_t inode = 0, size = 0;
  std::int64_t changed = 0;  // ns since 1970
  static FileStamp of(const std::string& path);
  bool operator==(const FileStamp&) const = default;
};

// Where a table comes from.
struct TableSettings {
  std::string name, file;
  Options options;
  std::shared_ptr<TableHandle> handle;
  std::string written = {};  // its options as text
  FileStamp read = {};       // as the file was when it was read with the configuration
};

inline constexpr std::size_t kLargestTable = 256u << 20;  // bytes of a file
// Numbers, true and false are typed as JSON's are. The problem says the line.
Result<std::shared_ptr<const Table>> read_table(const Options& options, std::string_view text);
// The same with the file's text.
Result<std::shared_ptr<const Table>> load_table(const TableSettings& table);

}  // namespace dingle

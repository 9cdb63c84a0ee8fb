// Lines that are the rows of a table. Internal to core/draft.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace dingle {

struct DraftTable {
  std::string text;        // of the template
  std::string time_field;  // a column with times; "" if there is none
  bool header = false;     // the first line names the columns
};

// Nothing if they are none. `now`: ns since 1970 UTC, for times without a year.
std::optional<DraftTable> draft_table(const std::vector<std::string_view>& lines, std::int64_t now);

}  // namespace dingle

// The program's own log: one JSON object a line on standard error, with time, level, message and fields.
#pragma once

#include <initializer_list>
#include <string>
#include <utility>

namespace dingle {

using LogFields = std::initializer_list<std::pair<const char*, std::string>>;

// Thread-safe.
void log_info(const std::string& message, LogFields fields = {});
void log_warning(const std::string& message, LogFields fields = {});
void log_error(const std::string& message, LogFields fields = {});

}  // namespace dingle

#include "server/log.h"

#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

spdlog::logger& logger() {
  static spdlog::logger* the_logger = [] {
    auto* made = new spdlog::logger("dingled", std::make_shared<spdlog::sinks::stderr_sink_mt>());
    made->set_pattern("%v");
    made->flush_on(spdlog::level::info);
    return made;
  }();
  return *the_logger;
}

void write(spdlog::level::level_enum level, const char* name, const std::string& message, LogFields fields) {
  std::string line =
      "{\"time\":\"" + format_rfc3339(system_now()) + "\",\"level\":\"" + name + "\",\"message\":";
  append_json_string(line, message);
  for (const auto& [key, value] : fields) {
    line += ',';
    append_json_string(line, key);
    line += ':';
    append_json_string(line, value);
  }
  line += '}';
  logger().log(level, line);
}

}  // namespace

void log_info(const std::string& message, LogFields fields) {
  write(spdlog::level::info, "info", message, fields);
}
void log_warning(const std::string& message, LogFields fields) {
  write(spdlog::level::warn, "warning", message, fields);
}
void log_error(const std::string& message, LogFields fields) {
  write(spdlog::level::err, "error", message, fields);
}

}  // namespace dingle

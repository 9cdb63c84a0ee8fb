#include "agent/json.h"

namespace dingle {

Json parse_json(std::string_view text) { return Json::parse(text, nullptr, false); }

std::string dump(const Json& json, int indent) {
  return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

}  // namespace dingle

#include "agent/json.h"

#include "core/json_fields.h"

namespace dingle {

Json parse_json(std::string_view text) {
  if (nests_deeper_than(text, kDeepestJson)) return Json(Json::value_t::discarded);
  return Json::parse(text, nullptr, false);
}

Json json_of(const Value& value) {
  std::string text;
  value.append_json(text);
  return parse_json(text);
}

std::string dump(const Json& json, int indent) {
  return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

}  // namespace dingle

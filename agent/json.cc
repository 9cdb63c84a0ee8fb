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

const Json* member(const Json& json, std::string_view name) {
  if (!json.is_object()) return nullptr;
  const auto it = json.find(name);
  return it == json.end() ? nullptr : &*it;
}

std::string member_text(const Json& json, std::string_view name) {
  const Json* value = member(json, name);
  return value != nullptr && value->is_string() ? value->get<std::string>() : "";
}

std::optional<std::uint64_t> member_number(const Json& json, std::string_view name) {
  const Json* value = member(json, name);
  if (value == nullptr || !value->is_number_unsigned()) return std::nullopt;
  return value->get<std::uint64_t>();
}

std::string dump(const Json& json, int indent) {
  return json.dump(indent, ' ', false, Json::error_handler_t::replace);
}

}  // namespace dingle

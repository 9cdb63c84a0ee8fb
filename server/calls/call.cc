#include "server/calls/call.h"

#include <algorithm>
#include <string_view>
#include <tuple>
#include <utility>

namespace dingle {
namespace {

std::vector<Call>& registered() {
  static std::vector<Call> all;
  return all;
}

bool path_matches(const std::string& pattern, const std::string& path) {
  const std::size_t brace = pattern.find('{');
  if (brace == std::string::npos) return pattern == path;
  return path.size() > brace && path.compare(0, brace, pattern, 0, brace) == 0 &&
         path.find('/', brace) == std::string::npos;
}

Json of_type(const char* type) { return {{"type", type}}; }

}  // namespace

CallRegistration::CallRegistration(Call call) {
  const auto key = [](const Call& c) {
    return std::pair<std::string_view, std::string_view>(c.path, c.method);
  };
  auto& all = registered();
  all.insert(std::upper_bound(all.begin(), all.end(), call,
                              [&](const Call& a, const Call& b) { return key(a) < key(b); }),
             std::move(call));
}

const std::vector<Call>& calls() { return registered(); }

// A question may be longer than an address: its parameters come as a form then.
bool takes_form(const Call& call) {
  return std::string_view(call.method) == "GET" &&
         std::any_of(call.parameters.begin(), call.parameters.end(),
                     [](const OptionSpec& o) { return std::string_view(o.name) == "where"; });
}

const Call* call_of(const HttpRequest& request) {
  const Call* found = nullptr;
  for (const Call& call : calls()) {
    const bool same = request.method == call.method || (request.method == "POST" && takes_form(call));
    if (!same || !path_matches(call.path, request.path)) continue;
    // `/v1/letters/reasons` before any `/v1/letters/{id}`.
    if (found == nullptr || std::string_view(call.path).find('{') == std::string_view::npos) found = &call;
  }
  return found;
}

Json object_of(const std::vector<Member>& members) {
  Json properties = Json::object(), required = Json::array();
  for (const Member& m : members) {
    properties[m.name] = m.schema;
    if (m.always) required.push_back(m.name);
  }
  return {{"type", "object"},
          {"properties", properties},
          {"required", required},
          {"additionalProperties", false}};
}
Member cut_at_bytes() { return {"cut_at_bytes", is_integer(), false}; }
Json list_of(Json items) { return {{"type", "array"}, {"items", std::move(items)}}; }
Json map_of(Json values) { return {{"type", "object"}, {"additionalProperties", std::move(values)}}; }
Json or_null(Json schema) { return {{"anyOf", Json::array({std::move(schema), of_type("null")})}}; }
Json is_text() { return of_type("string"); }
Json is_moment() { return {{"type", "string"}, {"format", "date-time"}}; }
Json is_integer() { return of_type("integer"); }
Json is_number() { return of_type("number"); }
Json is_boolean() { return of_type("boolean"); }
Json is_anything() { return Json::object(); }

}  // namespace dingle

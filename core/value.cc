#include "core/value.h"

#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {

std::string_view kind_name(Kind kind) {
  switch (kind) {
    case Kind::absent: return "absent";
    case Kind::text: return "text";
    case Kind::integer: return "int";
    case Kind::decimal: return "decimal";
    case Kind::boolean: return "boolean";
    case Kind::timestamp: return "timestamp";
    case Kind::ip: return "ip";
    case Kind::list: return "list";
    case Kind::map: return "map";
  }
  return "absent";
}

std::string Value::to_string() const {
  std::string out;
  switch (kind_) {
    case Kind::absent: break;
    case Kind::integer: out = std::to_string(integer_); break;
    case Kind::decimal: append_json_number(out, decimal_); break;
    case Kind::boolean: out = integer_ ? "true" : "false"; break;
    case Kind::timestamp: out = format_rfc3339(integer_); break;
    case Kind::text:
    case Kind::ip:
    case Kind::list:
    case Kind::map: out = std::string(as_text());
  }
  return out;
}

void Value::append_json(std::string& out) const {
  switch (kind_) {
    case Kind::absent: out += "null"; break;
    case Kind::integer: append_json_integer(out, integer_); break;
    case Kind::decimal: append_json_number(out, decimal_); break;
    case Kind::boolean: out += integer_ ? "true" : "false"; break;
    case Kind::timestamp: out += '"' + format_rfc3339(integer_) + '"'; break;
    case Kind::text:
    case Kind::ip: append_json_string(out, as_text()); break;
    case Kind::list:
    case Kind::map: out += as_text(); break;
  }
}

bool operator==(const Value& a, const Value& b) {
  if (a.kind_ != b.kind_) return false;
  if (a.is_textual()) return a.as_text() == b.as_text();
  if (a.kind_ == Kind::decimal) return a.decimal_ == b.decimal_;
  return a.kind_ == Kind::absent || a.integer_ == b.integer_;
}

}  // namespace dingle

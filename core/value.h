// A typed value of a field: 16 bytes, copied freely. Texts are views: whoever made the value says into what
// (the line buffer, the batch's arena, a decoded record), and the value must not outlive that.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/names.h"

namespace dingle {

enum class Kind : std::uint8_t { absent, text, integer, decimal, boolean, timestamp, ip, list, map };

std::string_view kind_name(
    Kind kind);  // "text", "int", "decimal", "boolean", "timestamp", "ip", "list", "map"

class Value {
 public:
  constexpr Value() : integer_(0), length_(0), kind_(Kind::absent) {}

  static Value text(std::string_view t) { return from_text(Kind::text, t); }
  static Value integer(std::int64_t i) {
    Value v;
    v.kind_ = Kind::integer;
    v.integer_ = i;
    return v;
  }
  static Value decimal(double d) {
    Value v;
    v.kind_ = Kind::decimal;
    v.decimal_ = d;
    return v;
  }
  static Value boolean(bool b) {
    Value v;
    v.kind_ = Kind::boolean;
    v.integer_ = b;
    return v;
  }
  // Nanoseconds since 1970-01-01T00:00:00Z. `zoneless`: the text named no zone, and UTC was assumed.
  static Value timestamp(std::int64_t nanoseconds, bool zoneless = false) {
    Value v;
    v.kind_ = Kind::timestamp;
    v.integer_ = nanoseconds;
    v.length_ = zoneless;
    return v;
  }
  // An address as it was written (IPv4 or IPv6 text).
  static Value ip(std::string_view t) { return from_text(Kind::ip, t); }
  // A list or map as JSON text.
  static Value list(std::string_view json) { return from_text(Kind::list, json); }
  static Value map(std::string_view json) { return from_text(Kind::map, json); }
  static Value from_text(Kind kind, std::string_view t) {
    Value v;
    v.kind_ = kind;
    v.text_ = t.data();
    v.length_ = static_cast<std::uint32_t>(t.size());
    return v;
  }

  Kind kind() const { return kind_; }
  bool absent() const { return kind_ == Kind::absent; }
  bool is_textual() const { return kind_ == Kind::text || kind_ >= Kind::ip; }
  bool is_number() const { return kind_ == Kind::integer || kind_ == Kind::decimal; }
  std::string_view as_text() const { return {text_, length_}; }  // text, ip, list, map
  std::int64_t as_integer() const { return integer_; }           // integer, timestamp
  double as_decimal() const { return decimal_; }
  bool as_boolean() const { return integer_ != 0; }
  bool zoneless() const { return length_ != 0; }  // timestamp
  double as_number() const { return kind_ == Kind::decimal ? decimal_ : static_cast<double>(integer_); }

  // Text for a person or a key: numbers in shortest form, timestamps as RFC 3339 in UTC.
  std::string to_string() const;
  // Appends the value as JSON (RFC 8259). Bytes that are not UTF-8 come out as U+FFFD.
  void append_json(std::string& out) const;

  friend bool operator==(const Value& a, const Value& b);

 private:
  union {
    std::int64_t integer_;
    double decimal_;
    const char* text_;
  };
  std::uint32_t length_;
  Kind kind_;
};
static_assert(sizeof(Value) == 16);

struct Field {
  FieldId name = kNoField;
  Value value;
};

}  // namespace dingle

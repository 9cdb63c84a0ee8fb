// A value as bytes: u8 kind; varint (zigzag), decimal or text.
#pragma once

#include "core/bytes.h"
#include "core/value.h"

namespace dingle {

inline bool kept_as_text(Kind kind) { return kind == Kind::text || kind >= Kind::ip; }

inline void write_value(ByteWriter& out, const Value& value) {
  const Kind kind = value.kind();
  out.u8(static_cast<std::uint8_t>(kind));
  if (kind == Kind::absent) return;
  if (kind == Kind::decimal)
    out.decimal(value.as_decimal());
  else if (kept_as_text(kind))
    out.text(value.as_text());
  else
    out.zigzag(kind == Kind::boolean ? value.as_boolean() : value.as_integer());
}

// A text is a view into what is read. Of bytes that are none: absent, and the reader has failed.
inline Value read_value(ByteReader& in) {
  const std::uint8_t byte = in.u8();
  if (byte > static_cast<std::uint8_t>(Kind::map)) return in.fail(), Value();
  const Kind kind = static_cast<Kind>(byte);
  if (kind == Kind::absent) return {};
  if (kind == Kind::decimal) return Value::decimal(in.decimal());
  if (kept_as_text(kind)) return Value::from_text(kind, in.text());
  const std::int64_t number = in.zigzag();
  return kind == Kind::boolean     ? Value::boolean(number != 0)
         : kind == Kind::timestamp ? Value::timestamp(number)
                                   : Value::integer(number);
}

}  // namespace dingle

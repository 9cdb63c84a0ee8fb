#include "agent/destinations/postgres_rows.h"

#include <arpa/inet.h>

#include <bit>
#include <charconv>
#include <cstring>

#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::int64_t k2000 = days_from_civil(2000, 1, 1) * kDay;

template <class T>
void put(std::string& out, T v) {
  for (int shift = static_cast<int>(sizeof v) * 8 - 8; shift >= 0; shift -= 8)
    out += static_cast<char>(static_cast<std::uint64_t>(v) >> shift);
}
void put_null(std::string& out) { put(out, std::int32_t{-1}); }

// Writes the size of what was appended behind `at`.
void set_size(std::string& out, std::size_t at) {
  const auto size = static_cast<std::uint32_t>(out.size() - at - 4);
  for (int i = 0; i < 4; ++i) out[at + static_cast<std::size_t>(i)] = static_cast<char>(size >> (24 - 8 * i));
}

template <class T>
bool number_in(const Value& v, T& n) {
  if (v.kind() == Kind::integer) {
    const std::int64_t i = v.as_integer();
    n = static_cast<T>(i);
    return static_cast<std::int64_t>(n) == i;
  }
  if (v.kind() != Kind::text) return false;
  const std::string_view t = v.as_text();
  auto r = std::from_chars(t.data(), t.data() + t.size(), n);
  return r.ec == std::errc() && r.ptr == t.data() + t.size();
}

bool decimal_in(const Value& v, double& n) {
  if (v.is_number()) return n = v.as_number(), true;
  if (v.kind() != Kind::text) return false;
  const std::string_view t = v.as_text();
  auto r = std::from_chars(t.data(), t.data() + t.size(), n);
  return r.ec == std::errc() && r.ptr == t.data() + t.size();
}

// jsonb takes every escape but that of U+0000.
bool replace_zero_escapes(std::string& json, std::size_t from) {
  bool any = false;
  for (std::size_t i = from; (i = json.find("\\u0000", i)) != std::string::npos;) {
    std::size_t slashes = 0;
    while (i > slashes && json[i - 1 - slashes] == '\\') ++slashes;
    if (slashes % 2 == 0) {
      json.replace(i, 6, "\\ufffd");
      any = true;
    }
    i += 6;
  }
  return any;
}

}  // namespace

PgType pg_type_of(std::uint32_t oid) {
  switch (oid) {
    case 16: return PgType::boolean;
    case 20: return PgType::int8;
    case 21: return PgType::int2;
    case 23: return PgType::int4;
    case 25:
    case 1042:
    case 1043: return PgType::text;
    case 114: return PgType::json;
    case 700: return PgType::real;
    case 701: return PgType::double_precision;
    case 869: return PgType::inet;
    case 1184: return PgType::timestamptz;
    case 3802: return PgType::jsonb;
    default: return PgType::unsupported;
  }
}

PgRows::PgRows(std::vector<PgColumn> columns) : columns_(std::move(columns)) {
  for (const PgColumn& c : columns_)
    if (c.from == PgColumn::From::field) apart_.push_back(c.field);
}

std::string PgRows::head() { return std::string("PGCOPY\n\377\r\n\0\0\0\0\0\0\0\0\0", 19); }
std::string PgRows::tail() { return "\377\377"; }

void PgRows::append_text(std::string_view text, std::string& out) {
  const std::size_t at = out.size();
  put(out, std::int32_t{0});
  bool plain = true;
  for (const char c : text) plain &= c > 0;  // neither zero nor beyond ASCII
  if (plain) {
    out += text;
  } else {
    const std::string valid = valid_utf8(text);
    bool zero = false;
    for (const char c : valid) {
      if (c == '\0') {
        out += "\xEF\xBF\xBD";
        zero = true;
      } else {
        out += c;
      }
    }
    replaced_ += zero;
  }
  set_size(out, at);
}

// Fields without a column, or whose value does not fit it, and those of the resource.
void PgRows::append_fields(const SpooledEvent& e, std::string& out) {
  const std::size_t begin = out.size();
  char separator = '{';
  auto add = [&](FieldId name, const Value& value) {
    if (value.absent()) return;
    for (std::size_t i = 0; i < apart_.size(); ++i)
      if (apart_[i] == name && (i >= 64 || !(left_ >> i & 1))) return;
    out += separator;
    separator = ',';
    append_json_string(out, field_name(name));
    out += ':';
    value.append_json(out);
  };
  for (const Field& f : e.fields) add(f.name, f.value);
  for (const Field& f : e.resource) {
    bool hidden = false;
    for (const Field& own : e.fields) hidden |= own.name == f.name;
    if (!hidden) add(f.name, f.value);
  }
  if (separator == '{') out += '{';
  out += '}';
  replaced_ += replace_zero_escapes(out, begin);
}

// False: the value does not fit the column, and nothing was written.
bool PgRows::append_field(const PgColumn& column, const Value& v, std::string& out) {
  switch (column.type) {
    case PgType::text: append_text(v.is_textual() ? v.as_text() : v.to_string(), out); return true;
    case PgType::int2: {
      std::int16_t n;
      if (!number_in(v, n)) return false;
      put(out, std::int32_t{2});
      put(out, n);
      return true;
    }
    case PgType::int4: {
      std::int32_t n;
      if (!number_in(v, n)) return false;
      put(out, std::int32_t{4});
      put(out, n);
      return true;
    }
    case PgType::int8: {
      std::int64_t n;
      if (!number_in(v, n)) return false;
      put(out, std::int32_t{8});
      put(out, n);
      return true;
    }
    case PgType::real: {
      double n;
      if (!decimal_in(v, n)) return false;
      put(out, std::int32_t{4});
      put(out, std::bit_cast<std::uint32_t>(static_cast<float>(n)));
      return true;
    }
    case PgType::double_precision: {
      double n;
      if (!decimal_in(v, n)) return false;
      put(out, std::int32_t{8});
      put(out, std::bit_cast<std::uint64_t>(n));
      return true;
    }
    case PgType::boolean:
      if (v.kind() != Kind::boolean) return false;
      put(out, std::int32_t{1});
      out += v.as_boolean() ? '\1' : '\0';
      return true;
    case PgType::timestamptz:
      if (v.kind() != Kind::timestamp) return false;
      put(out, std::int32_t{8});
      put(out, (v.as_integer() - k2000) / 1000);
      return true;
    case PgType::inet: {
      if (!v.is_textual()) return false;
      const std::string text(v.as_text());
      unsigned char address[16];
      const bool four = ::inet_pton(AF_INET, text.c_str(), address) == 1;
      if (!four && ::inet_pton(AF_INET6, text.c_str(), address) != 1) return false;
      const int length = four ? 4 : 16;
      put(out, std::int32_t{4 + length});
      out += static_cast<char>(four ? 2 : 3);
      out += static_cast<char>(8 * length);
      out += '\0';
      out += static_cast<char>(length);
      out.append(reinterpret_cast<const char*>(address), static_cast<std::size_t>(length));
      return true;
    }
    case PgType::jsonb:
    case PgType::json: {
      const std::size_t at = out.size();
      put(out, std::int32_t{0});
      if (column.type == PgType::jsonb) out += '\1';
      const std::size_t begin = out.size();
      v.append_json(out);
      replaced_ += replace_zero_escapes(out, begin);
      set_size(out, at);
      return true;
    }
    case PgType::unsupported: return false;
  }
  return false;
}

void PgRows::append(const SpooledEvent& e, std::string& out) {
  put(out, static_cast<std::int16_t>(columns_.size()));
  left_ = 0;
  // The rest of the fields comes last in the table of columns: by then it is known what did not fit.
  std::size_t apart = 0;
  for (const PgColumn& c : columns_) {
    switch (c.from) {
      case PgColumn::From::time: append_field(c, Value::timestamp(e.timestamp), out); break;
      case PgColumn::From::observed: append_field(c, Value::timestamp(e.observed), out); break;
      case PgColumn::From::body: append_text(e.body, out); break;
      case PgColumn::From::pipeline: append_text(e.pipeline, out); break;
      case PgColumn::From::configuration: append_text(e.configuration, out); break;
      case PgColumn::From::template_number:
        if (e.template_number == 0)
          put_null(out);
        else
          append_field(c, Value::integer(e.template_number), out);
        break;
      case PgColumn::From::stream:
        put(out, std::int32_t{8});
        put(out, e.stream);
        break;
      case PgColumn::From::position:
        put(out, std::int32_t{8});
        put(out, e.position);
        break;
      case PgColumn::From::field: {
        const Value v = e.get(c.field);
        if (v.absent() || !append_field(c, v, out)) {
          put_null(out);
          if (apart < 64 && !v.absent()) left_ |= std::uint64_t{1} << apart;
        }
        ++apart;
        break;
      }
      case PgColumn::From::fields: {
        const std::size_t at = out.size();
        put(out, std::int32_t{0});
        if (c.type == PgType::jsonb) out += '\1';
        append_fields(e, out);
        set_size(out, at);
      }
    }
  }
}

}  // namespace dingle

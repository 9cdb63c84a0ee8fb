// Rows in PostgreSQL's binary COPY format (PostgreSQL documentation, COPY, "Binary Format").
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include "spool/events.h"

namespace dingle {

// What a column holds, by the type that the server says it has.
enum class PgType : std::uint8_t {
  text,
  int2,
  int4,
  int8,
  real,
  double_precision,
  boolean,
  timestamptz,
  inet,
  jsonb,
  json,
  unsupported
};
PgType pg_type_of(std::uint32_t oid);

struct PgColumn {
  std::string name;
  // What goes into it.
  enum class From : std::uint8_t {
    time,
    observed,
    body,
    fields,
    pipeline,
    template_number,
    configuration,
    stream,
    position,
    field
  } from = From::field;
  FieldId field = kNoField;  // From::field
  PgType type = PgType::text;
};

// Writes rows. Texts that the server cannot hold are mended: U+0000 and bytes that are not UTF-8 become
// U+FFFD.
class PgRows {
 public:
  explicit PgRows(std::vector<PgColumn> columns);
  static std::string head();
  static std::string tail();
  void append(const SpooledEvent& event, std::string& out);
  std::uint64_t replaced() const { return replaced_; }  // texts with U+0000, since it was made
  const std::vector<PgColumn>& columns() const { return columns_; }

 private:
  bool append_field(const PgColumn& column, const Value& value, std::string& out);
  void append_fields(const SpooledEvent& event, std::string& out);
  void append_text(std::string_view text, std::string& out);

  std::vector<PgColumn> columns_;
  std::vector<FieldId> apart_;  // fields with columns of their own
  std::uint64_t replaced_ = 0;
  std::uint64_t left_ = 0;  // bits of `apart_` that did not fit their columns in this row
};

}  // namespace dingle

// Gives each event the name of its index (or the path of its file): a text with `{day}`, `{month}` and
// `{field}` in it.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "core/event.h"
#include "core/options/findings.h"
#include "core/time/zone.h"

namespace dingle {

// Immutable; many threads may use one.
class Namer {
 public:
  enum class Form {
    index,  // one valid index name
    path,   // a file's path: slashes of the text stay, values become valid names
    table,  // a table's name, with its schema if the text has one; values become valid names; at most 52
            // bytes
  };
  // `{day}` is 2026-11-23 and `{month}` 2026-11 of the event's time in `zone`; other names are fields.
  static Result<Namer> parse(std::string_view text, Zone zone, Form form = Form::index);

  // The name for the event. An implausible event time (before 1990, or more than a day after it was read)
  // counts as the time at which the event was read; `*implausible` says so.
  std::string name(const Batch& batch, const Event& event, bool* implausible) const;
  // Names depend on nothing but the day in UTC or a fixed zone: then events of one day share one.
  bool by_day_alone() const { return by_day_alone_; }
  std::vector<FieldId> fields() const;                            // that names are made of
  std::int64_t day(const Event& event, bool* implausible) const;  // days since 1970 in the zone

 private:
  struct Piece {
    std::string literal;
    enum class Form { none, day, month, field } form = Form::none;  // what follows the literal
    FieldId field = kNoField;
  };
  std::vector<Piece> pieces_;
  Zone zone_;
  Form form_ = Form::index;
  bool by_day_alone_ = true;
};

}  // namespace dingle

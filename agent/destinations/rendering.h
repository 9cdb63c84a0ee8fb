// How events are written for a destination that takes texts: which fields, under which names, and times in
// which form. One section of options, `events`, for all such destinations.
#pragma once

#include <map>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "core/options/options.h"
#include "core/time/zone.h"
#include "spool/events.h"

namespace dingle {

// The option `events` itself, to be put into a kind's table.
OptionSpec rendering_option();

// Immutable; many threads may use one.
class Rendering {
 public:
  // `section`: the options of `events`; wrong zones were reported when the configuration was read.
  explicit Rendering(const Options& section);

  // One JSON object on one line, without a newline: all fields, or those that were chosen.
  void append_json(const SpooledEvent& event, std::string& out) const;
  // One line of CSV (RFC 4180) with its CRLF. Only with chosen fields.
  void append_csv(const SpooledEvent& event, std::string& out) const;
  void append_csv_head(std::string& out) const;
  bool has_chosen() const { return !chosen_.empty(); }

  // One value as JSON, `null` if the event has none: a field by its name in the event, or `dingle.id`.
  void append_value(const SpooledEvent& event, std::string_view name, std::string& out) const;
  // One value as plain text, for paths and groups; "" if there is none.
  std::string text_of(const SpooledEvent& event, std::string_view name) const;

 private:
  enum class Time { rfc3339, sql, seconds, milliseconds, microseconds, nanoseconds };
  void append_time(std::int64_t t, bool quoted, std::string& out) const;
  Value value(const SpooledEvent& event, std::string_view name, FieldId id, std::string& room) const;
  std::string_view shown(FieldId id) const;

  struct Chosen {
    std::string name, key;  // key: as JSON, with the colon: "\"client\":"
    FieldId id = kNoField;
    bool is_id = false;  // dingle.id
  };
  void append_json_value(const Value& value, std::string& out) const;
  std::vector<Chosen> chosen_;
  std::set<FieldId> omitted_;
  std::map<FieldId, std::string> renamed_;
  std::map<FieldId, FieldId> had_name_;  // by the new name: the field that gets it
  std::map<std::string, std::string, std::less<>> renamed_names_;
  Time time_ = Time::rfc3339;
  Zone zone_;
};

// Reports a zone that does not exist.
void check_rendering(const Options& section, Findings& findings);

}  // namespace dingle

#include "agent/destinations/rendering.h"

#include <fmt/format.h>

#include "agent/destinations/field_choice.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

constexpr std::string_view kId = "dingle.id";

}  // namespace

OptionSpec rendering_option() {
  OptionSpec all{.name = "events",
                 .type = OptionType::section,
                 .text = "How events are written.",
                 .section = field_choice_options(
                     "Only these, in this order: fields, `timestamp`, `observed_timestamp`, `body`, "
                     "`dingle.id`, `dingle.pipeline`, `dingle.template`, `dingle.configuration`. All, if "
                     "missing.")};
  all.section.push_back(
      {.name = "time",
       .type = OptionType::choice,
       .fallback = "rfc3339",
       .text = "The form of times: `2026-11-23T10:00:00.125Z`, `2026-11-23 10:00:00.125` (`sql`), or a "
               "whole number since 1970.",
       .choices = {"rfc3339", "sql", "seconds", "milliseconds", "microseconds", "nanoseconds"}});
  all.section.push_back({.name = "zone",
                         .type = OptionType::zone,
                         .fallback = "UTC",
                         .text = "The zone of times written as text."});
  return all;
}

void check_rendering(const Options& section, Findings& findings) {
  if (auto zone = Zone::named(section.text("zone")); !zone)
    findings.error_within(*section.node("zone"), zone.problem());
  check_field_choice(section, findings);
}

Rendering::Rendering(const Options& section) {
  for (const std::string& name : section.texts("omit")) omitted_.insert(field_id(name));
  for (const Node::Entry& e : section.tree("rename").entries) {
    renamed_[field_id(e.key)] = e.value.scalar;
    had_name_[field_id(e.value.scalar)] = field_id(e.key);
    renamed_names_[e.key] = e.value.scalar;
  }
  for (const std::string& name : section.texts("fields")) {
    Chosen c{name, "", field_id(name), name == kId};
    auto it = renamed_names_.find(name);
    append_json_string(c.key, it == renamed_names_.end() ? name : it->second);
    c.key += ':';
    chosen_.push_back(std::move(c));
  }
  static constexpr std::string_view kForms[] = {"rfc3339",      "sql",          "seconds",
                                                "milliseconds", "microseconds", "nanoseconds"};
  for (std::size_t i = 0; i < std::size(kForms); ++i)
    if (section.text("time") == kForms[i]) time_ = static_cast<Time>(i);
  if (auto zone = Zone::named(section.text("zone"))) zone_ = *zone;
}

void Rendering::append_time(std::int64_t t, bool quoted, std::string& out) const {
  switch (time_) {
    case Time::seconds: append_json_integer(out, t / kSecond - (t % kSecond < 0)); return;
    case Time::milliseconds: append_json_integer(out, t / 1'000'000); return;
    case Time::microseconds: append_json_integer(out, t / 1'000); return;
    case Time::nanoseconds: append_json_integer(out, t); return;
    default: break;
  }
  const std::int64_t local = zone_.to_local(t);
  std::string text = format_rfc3339(local);
  if (time_ == Time::sql) {
    text.pop_back();
    text[text.find('T')] = ' ';
  } else if (local != t) {
    text.pop_back();
    const std::int64_t minutes = (local - t) / (60 * kSecond);
    text +=
        fmt::format("{}{:02}:{:02}", minutes < 0 ? '-' : '+', std::abs(minutes) / 60, std::abs(minutes) % 60);
  }
  if (quoted) out += '"';
  out += text;
  if (quoted) out += '"';
}

Value Rendering::value(const SpooledEvent& event, std::string_view name, FieldId id,
                       std::string& room) const {
  if (name == kId) {
    room = event_id(event).view();
    return Value::text(room);
  }
  return event.get(id);
}

std::string_view Rendering::shown(FieldId id) const {
  if (renamed_.empty()) return field_name(id);
  auto it = renamed_.find(id);
  return it == renamed_.end() ? field_name(id) : std::string_view(it->second);
}

void Rendering::append_value(const SpooledEvent& event, std::string_view name, std::string& out) const {
  std::string room;
  const Value v = value(event, name, field_id(name), room);
  if (v.kind() == Kind::timestamp)
    append_time(v.as_integer(), true, out);
  else if (v.absent())
    out += "null";
  else
    v.append_json(out);
}

std::string Rendering::text_of(const SpooledEvent& event, std::string_view name) const {
  std::string room;
  const Value v = value(event, name, field_id(name), room);
  if (v.absent()) return "";
  if (v.kind() != Kind::timestamp) return valid_utf8(v.to_string());
  std::string out;
  append_time(v.as_integer(), false, out);
  return out;
}

void Rendering::append_json_value(const Value& v, std::string& out) const {
  if (v.kind() == Kind::timestamp)
    append_time(v.as_integer(), true, out);
  else
    v.append_json(out);
}

void Rendering::append_json(const SpooledEvent& e, std::string& out) const {
  char separator = '{';
  if (has_chosen()) {
    for (const Chosen& c : chosen_) {
      const Value v = c.is_id ? Value() : e.get(c.id);
      if (!c.is_id && v.absent()) continue;
      out += separator;
      separator = ',';
      out += c.key;
      if (c.is_id)
        (out += '"').append(event_id(e).view()) += '"';
      else
        append_json_value(v, out);
    }
    out += separator == '{' ? "{}" : "}";
    return;
  }
  auto add = [&](std::string_view name, const Value& v) {
    if (v.absent()) return;
    out += separator;
    separator = ',';
    append_json_string(out, name);
    out += ':';
    append_json_value(v, out);
  };
  std::string room;
  static const FieldId id = field_id(kId);
  const auto omitted = [&](FieldId name) { return !omitted_.empty() && omitted_.count(name) != 0; };
  // What is renamed takes its new name from a field that had it.
  const auto lost_its_name = [&](FieldId name) {
    if (had_name_.empty() || renamed_.count(name)) return false;
    const auto it = had_name_.find(name);
    return it != had_name_.end() && !omitted(it->second) && !e.get(it->second).absent();
  };
  auto unless_omitted = [&](FieldId name, const Value& v) {
    if (!omitted(name) && !lost_its_name(name)) add(shown(name), v);
  };
  for (FieldId part : {names::timestamp, names::observed_timestamp, names::body})
    unless_omitted(part, e.get(part));
  for (const Field& f : e.fields)
    if (!is_part_of_event(f.name)) unless_omitted(f.name, f.value);
  for (const Field& f : e.resource) {
    bool hidden = false;
    for (const Field& own : e.fields) hidden |= own.name == f.name;
    if (!hidden) unless_omitted(f.name, f.value);
  }
  for (FieldId part : {names::pipeline, names::template_number, names::configuration})
    unless_omitted(part, e.get(part));
  if (omitted_.empty() || !omitted_.count(id)) add(shown(id), value(e, kId, id, room));
  if (separator == '{') out += '{';
  out += '}';
}

namespace {

// RFC 4180: quoted where it must be.
void append_cell(std::string_view text, std::string& out) {
  if (text.find_first_of(",\"\r\n") == std::string_view::npos) {
    out += text;
    return;
  }
  out += '"';
  for (char c : text) {
    if (c == '"') out += '"';
    out += c;
  }
  out += '"';
}

}  // namespace

void Rendering::append_csv(const SpooledEvent& event, std::string& out) const {
  for (std::size_t i = 0; i < chosen_.size(); ++i) {
    if (i) out += ',';
    append_cell(text_of(event, chosen_[i].name), out);
  }
  out += "\r\n";
}

void Rendering::append_csv_head(std::string& out) const {
  for (std::size_t i = 0; i < chosen_.size(); ++i) {
    if (i) out += ',';
    auto it = renamed_names_.find(chosen_[i].name);
    append_cell(it == renamed_names_.end() ? chosen_[i].name : it->second, out);
  }
  out += "\r\n";
}

}  // namespace dingle

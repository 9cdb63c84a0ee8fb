#include "client/event_page.h"

#include <simdjson.h>

#include "core/json_text.h"

namespace dingle {

namespace lazy = simdjson::ondemand;

namespace {

// What stands behind the value that it hands out is left off.
std::string_view trimmed(std::string_view raw) {
  while (!raw.empty() && static_cast<unsigned char>(raw.back()) <= ' ') raw.remove_suffix(1);
  return raw;
}

// Texts with their quotes; objects and lists whole. Throws simdjson_error.
std::string_view raw_text(lazy::value value) {
  switch (value.type()) {
    case lazy::json_type::object: return value.get_object().value().raw_json();
    case lazy::json_type::array: return value.get_array().value().raw_json();
    default: return trimmed(value.raw_json_token());
  }
}

// As it stands between the quotes of a key.
std::string key_of(const std::string& name) {
  std::string quoted;
  append_json_string(quoted, name);
  return quoted.substr(1, quoted.size() - 2);
}

lazy::parser& parser() {
  static thread_local lazy::parser one;
  return one;
}

}  // namespace

std::optional<EventPage> read_event_page(std::string answer) try {
  EventPage page;
  page.text = std::move(answer);
  page.text.reserve(page.text.size() + simdjson::SIMDJSON_PADDING);
  lazy::document document = parser().iterate(page.text);
  for (auto member : document.get_object()) {
    const std::string_view name = member.unescaped_key();
    lazy::value value = member.value();
    if (name == "events")
      for (auto event : value.get_array())
        page.events.push_back(trimmed(event.get_object().value().raw_json()));
    else if (name == "next")
      page.next = std::string_view(value.get_string());
    else if (name == "changes")
      page.changes = value.get_int64();
    else if (name == "scanned")
      page.scanned = parse_json(std::string(raw_text(value)));
  }
  if (!page.scanned.is_object()) return std::nullopt;
  return page;
} catch (const simdjson::simdjson_error&) {
  return std::nullopt;
}

std::optional<std::string_view> member_of(const EventPage& page, std::string_view event,
                                          const std::string& field) try {
  // Behind each event there is more of the page, and the room behind that.
  const std::size_t from = static_cast<std::size_t>(event.data() - page.text.data());
  lazy::document document =
      parser().iterate(simdjson::padded_string_view(event, page.text.capacity() - from));
  lazy::value value;
  if (document.get_object().value().find_field_unordered(key_of(field)).get(value) != simdjson::SUCCESS)
    return std::nullopt;
  return raw_text(value);
} catch (const simdjson::simdjson_error&) {
  return std::nullopt;
}

}  // namespace dingle

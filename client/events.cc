#include "client/events.h"

#include <algorithm>

#include "client/terminal.h"
#include "client/times.h"
#include "core/condition/words.h"

namespace dingle {
namespace {

std::string short_time(const Client& client, const Json& event) {
  return shown_time(client, event.contains("timestamp") ? json_text(event["timestamp"]) : "");
}

const char* color_of(const Json& event) {
  return severity_color(event.contains("severity_number") && event["severity_number"].is_number_integer()
                            ? event["severity_number"].get<int>()
                            : 0);
}

std::string padded(std::string text, std::size_t width) {
  text = cut_to_width(one_line(text), width);
  return text + std::string(width - std::min(width, display_width(text)), ' ');
}

// A text that fits its room, with the words that were looked for.
std::string with_hits(const Client& client, const std::string& text, const std::vector<std::string>& hits) {
  if (hits.empty()) return text;
  std::string out;
  std::size_t done = 0;
  for_each_word(text, [&](std::string_view word) {
    std::string lower(word);
    for (char& c : lower) c = lower_ascii(c);
    if (std::find(hits.begin(), hits.end(), lower) == hits.end()) return;
    const auto at = static_cast<std::size_t>(word.data() - text.data());
    out.append(text, done, at - done).append(paint(client, "1;4", std::string(word)));
    done = at + word.size();
  });
  return out.append(text, done);
}

}  // namespace

const char* severity_color(int number) {
  return number >= 17 ? "31" : number >= 13 ? "33" : number >= 9 ? "32" : "2";
}

std::string event_line(const Client& client, const Json& event, std::size_t before,
                       const std::vector<std::string>& hits) {
  const std::string severity = event.contains("severity") ? json_text(event["severity"]) : "";
  const std::string service = event.contains("service.name")      ? json_text(event["service.name"])
                              : event.contains("dingle.pipeline") ? json_text(event["dingle.pipeline"])
                                                                  : "";
  const bool has_message = event.contains("message") && event["message"].is_string();
  const char* const shown = has_message ? "message" : "body";
  const std::string text = event.contains(shown) ? json_text(event[shown]) : "";
  constexpr std::size_t kService = 13, kSeverity = 9;
  const std::string time = short_time(client, event);
  const std::size_t used = before + time.size() + 2 + kService + 2 + kSeverity + 2;
  const std::size_t width = client.width > used + 20 ? client.width - used : 20;
  return paint(client, "2", time) + "  " + padded(service, kService) + "  " +
         paint(client, color_of(event), padded(severity, kSeverity)) + "  " +
         with_hits(client, cut_for(client, one_line(text), width), hits);
}

std::string event_in_full(const Client& client, const Json& event) {
  const Json types = event.value("dingle.types", Json::object());
  std::size_t width = 0;
  for (const auto& [key, value] : event.items())
    if (key != "dingle.types") width = std::max(width, display_width(visible(key)));
  std::string out;
  for (const auto& [key, value] : event.items()) {
    if (key == "dingle.types") continue;
    std::string type = key == "timestamp" || key == "observed_timestamp" ? "timestamp"
                       : key == "body"                                   ? "text"
                                                                         : types.value(key, "");
    type.resize(9, ' ');
    const std::string text =
        visible(type.starts_with("timestamp") ? shown_time(client, json_text(value)) : json_text(value));
    std::string shown;  // further lines of a body stand below the first
    const std::string indent(width + 15, ' ');
    const std::size_t room =
        std::max<std::size_t>(20, client.width > width + 15 ? client.width - width - 15 : 0);
    std::size_t column = 0;
    for (char c : text) {
      if ((static_cast<unsigned char>(c) & 0xC0) != 0x80 && (c == '\n' || column >= room))
        shown += "\n" + indent, column = 0;
      if (c == '\n') continue;
      const std::string piece = c == '\t' ? "    " : std::string(1, c);
      column += display_width(piece);
      shown += piece;
    }
    out += "  " + paint(client, "36", visible(key)) + std::string(width - display_width(visible(key)), ' ') +
           "  " + paint(client, "2", type) + "  " + shown + "\n";
  }
  return out;
}

std::vector<Column> columns_of(const std::vector<Json>& events) {
  std::vector<Column> columns;
  for (const Json& event : events)
    for (const auto& [key, value] : event.items())
      if (std::none_of(columns.begin(), columns.end(), [&, k = key](const Column& c) { return c.key == k; }))
        columns.push_back({key, key});
  return columns;
}

}  // namespace dingle

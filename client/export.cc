#include "client/export.h"

#include <unistd.h>

#include <chrono>
#include <future>
#include <iostream>
#include <optional>
#include <set>

#include "client/event_page.h"
#include "client/table.h"
#include "core/json_text.h"

namespace dingle {
namespace {

constexpr const char* kPage = "10000";

// What begins so a spreadsheet takes for a formula.
std::string defused(std::string text) {
  if (!text.empty() && std::string_view("=+-@\t\r").find(text[0]) != std::string_view::npos)
    text.insert(0, 1, '\'');
  return text;
}

// A field's JSON text as a cell says it.
std::string cell_text(std::string_view json) {
  return json.starts_with('"') ? parse_json(std::string(json)).get<std::string>()
         : json == "null"      ? ""
                               : std::string(json);
}

void write(const Client& client, const Export& wanted, const EventPage& page, std::string_view event,
           std::set<std::string>& missing) {
  if (client.output == OutputForm::ndjson && wanted.fields.empty()) {
    std::cout << event << '\n';
    return;
  }
  std::string line;
  for (const std::string& field : wanted.fields) {
    const std::optional<std::string_view> value = member_of(page, event, field);
    if (value && !missing.empty()) missing.erase(field);
    if (client.output == OutputForm::csv) {
      const std::string text = value ? cell_text(*value) : "";
      line += (&field == wanted.fields.data() ? "" : ",") + csv_cell(wanted.defuse ? defused(text) : text);
    } else if (value) {
      line += line.empty() ? '{' : ',';
      append_json_string(line, field);
      (line += ':') += *value;
    }
  }
  if (client.output == OutputForm::csv)
    line += "\r\n";
  else
    line += line.empty() ? "{}\n" : "}\n";
  std::cout << line;
}

std::optional<EventPage> ask(const Client& client, const Parameters& parameters) {
  TextAnswer answer = call_text(client, "GET", "/v1/events", parameters);
  return answer.ok ? read_event_page(std::move(answer.body)) : std::nullopt;
}

}  // namespace

int export_events(const Client& client, const Export& wanted) {
  if (client.output != OutputForm::ndjson && client.output != OutputForm::csv) {
    std::cerr << "dingle: all events go out as `-o ndjson` or `-o csv`\n";
    return kUsage;
  }
  if (client.output == OutputForm::csv && wanted.fields.empty()) {
    std::cerr << "dingle: CSV needs its columns\n  = --fields timestamp,severity,body; `dingle fields` lists "
                 "what there is\n";
    return kUsage;
  }
  if (client.output == OutputForm::csv) {
    for (std::size_t i = 0; i < wanted.fields.size(); ++i)
      std::cout << (i ? "," : "") << csv_cell(wanted.fields[i]);
    std::cout << "\r\n";
  }
  const bool shows = ::isatty(STDERR_FILENO) == 1;
  auto shown = std::chrono::steady_clock::now();
  std::string after = wanted.after;
  std::int64_t written = 0;
  std::set<std::string> missing(wanted.fields.begin(), wanted.fields.end());  // that no event had so far
  std::optional<std::int64_t> changes;  // of stored events, before the first page
  const auto cut_off = [&](const std::string& why) {
    std::cout.flush();
    std::cerr << (shows ? "\r" : "") << "dingle: this is not all: " << why << "; "
              << counted(written, "event") << (written == 1 ? " was" : " were") << " written"
              << (after.empty() ? "" : ", and --after " + after + " goes on") << "\n";
    return kFoundProblems;
  };
  const auto page_after = [&](const std::string& place) {
    Parameters parameters = wanted.parameters;
    parameters.emplace("limit", kPage);
    if (wanted.oldest) parameters.emplace("oldest", "true");
    if (!place.empty()) parameters.emplace("after", place);
    return parameters;
  };
  // The next page is on its way while one is written.
  std::future<std::optional<EventPage>> coming =
      std::async(std::launch::deferred, ask, std::cref(client), page_after(after));
  for (;;) {
    const std::optional<EventPage> page = coming.get();
    if (!page) return cut_off("the server did not answer");
    if (!page->next.empty() && !page->scanned.contains("problems"))
      coming = std::async(std::launch::async, ask, std::cref(client), page_after(page->next));
    if (changes.value_or(page->changes) != page->changes)
      return cut_off(
          "stored events were replaced or erased meanwhile, so that some may be missing or there twice");
    changes = page->changes;
    // Of one that is not complete nothing is known of what stands between its events.
    if (!page->scanned.value("complete", true))
      return cut_off(one_line(page->scanned.value("problems", Json::array({""})).back().get<std::string>()));
    for (const std::string_view event : page->events) write(client, wanted, *page, event, missing), ++written;
    if (!std::cout.flush()) return cut_off("the output cannot be written");
    if (!page->next.empty()) after = page->next;
    if (page->scanned.contains("problems"))
      return cut_off(one_line(page->scanned["problems"][0].get<std::string>()));
    if (const auto now = std::chrono::steady_clock::now(); shows && now - shown > std::chrono::seconds(1)) {
      std::cerr << "\r" << with_thousands(written) << " events" << std::flush;
      shown = now;
    }
    if (page->next.empty()) {
      for (const Json& note : written == 0 ? page->scanned.value("notes", Json::array()) : Json::array())
        std::cerr << "note: " << one_line(note.get<std::string>()) << "\n";
      for (const std::string& field : written == 0 ? std::set<std::string>() : missing)
        std::cerr << "note: none of these events has a field `" << field
                  << "`; `dingle fields` lists what there is\n";
      std::cerr << (shows ? "\r" : "") << counted(written, "event") << ", all that there are\n";
      return kFine;
    }
  }
}

}  // namespace dingle

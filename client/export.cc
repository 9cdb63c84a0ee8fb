#include "client/export.h"

#include <unistd.h>

#include <chrono>
#include <iostream>

#include "client/table.h"

namespace dingle {
namespace {

constexpr const char* kPage = "5000";

// What begins so a spreadsheet takes for a formula.
std::string defused(std::string text) {
  if (!text.empty() && std::string_view("=+-@\t\r").find(text[0]) != std::string_view::npos)
    text.insert(0, 1, '\'');
  return text;
}

void write(const Client& client, const Export& wanted, Json event) {
  if (client.output == OutputForm::csv) {
    for (std::size_t i = 0; i < wanted.fields.size(); ++i) {
      const std::string text = event.contains(wanted.fields[i]) ? json_text(event[wanted.fields[i]]) : "";
      std::cout << (i ? "," : "") << csv_cell(wanted.defuse ? defused(text) : text);
    }
    std::cout << "\r\n";
    return;
  }
  if (!wanted.fields.empty()) {
    Json kept = Json::object();
    for (const std::string& field : wanted.fields)
      if (event.contains(field)) kept[field] = std::move(event[field]);
    event = std::move(kept);
  }
  std::cout << dump(event) << "\n";
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
  const auto cut_off = [&](const std::string& why) {
    std::cout.flush();
    std::cerr << (shows ? "\r" : "") << "dingle: this is not all: " << why << "; "
              << counted(written, "event") << (written == 1 ? " was" : " were") << " written"
              << (after.empty() ? "" : ", and --after " + after + " goes on") << "\n";
    return kFoundProblems;
  };
  for (;;) {
    Parameters parameters = wanted.parameters;
    parameters.emplace("limit", kPage);
    if (wanted.oldest) parameters.emplace("oldest", "true");
    if (!after.empty()) parameters.emplace("after", after);
    const Answer page = call(client, "GET", "/v1/events", parameters);
    if (!page.ok) return cut_off("the server did not answer");
    for (const Json& event : page.body["events"]) write(client, wanted, event), ++written;
    if (!std::cout.flush()) return cut_off("the output cannot be written");
    const Json& scanned = page.body["scanned"];
    const std::string next = page.body.value("next", "");
    if (!next.empty()) after = next;
    if (scanned.contains("problems")) return cut_off(one_line(scanned["problems"][0].get<std::string>()));
    if (const auto now = std::chrono::steady_clock::now(); shows && now - shown > std::chrono::seconds(1)) {
      std::cerr << "\r" << with_thousands(written) << " events" << std::flush;
      shown = now;
    }
    if (next.empty()) {
      for (const Json& note : written == 0 ? scanned.value("notes", Json::array()) : Json::array())
        std::cerr << "note: " << one_line(note.get<std::string>()) << "\n";
      std::cerr << (shows ? "\r" : "") << counted(written, "event") << ", all that there are\n";
      return kFine;
    }
  }
}

}  // namespace dingle

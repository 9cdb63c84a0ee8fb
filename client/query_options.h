// The options of commands that ask the store: condition, words, time range, indexes.
#pragma once

#include <string>
#include <vector>

#include "client/connection.h"
#include "client/terminal.h"
#include "client/times.h"

namespace dingle {

struct QueryOptions {
  std::string where, words, from, to, destination, within;
  std::vector<std::string> indexes;

  void add_to(const Arguments& app) {
    add_choice_to(app);
    app.option("--within", within,
               "How long it may take: 60s unless given, 10m at most; then it shows what it has");
  }
  void add_choice_to(const Arguments& app) {  // which events are meant
    app.option("WHERE", where, "A search condition, for instance: status >= 500 and url.path like '/gate/%'");
    app.option("--mentions", words, "All of these words, in the body or any text field");
    app.option("--from", from,
               "From this event time: 2026-11-23T10:00:00Z, 2026-11-23, or how long ago: 15m");
    app.option("--to", to, "Before this event time");
    app.option("--index", indexes, "Only these indexes; * for any text");
    app.option("--destination", destination, "Only this destination's indexes");
  }

  Parameters parameters(const Client& client) const {
    Parameters p;
    std::string condition = where;
    if (!words.empty()) {
      std::string quoted;
      for (char c : words) quoted += c == '\'' ? "''" : std::string(1, c);
      condition = (where.empty() ? "" : "(" + where + ") and ") + "mentions '" + quoted + "'";
    }
    auto add = [&](const char* name, const std::string& value) {
      if (!value.empty()) p.emplace(name, value);
    };
    add("where", condition);
    add("from", asked_time(client, from));
    add("to", asked_time(client, to));
    add("destination", destination);
    add("within", within);
    for (const std::string& index : indexes) p.emplace("index", index);
    return p;
  }
};

// Says what went wrong while reading indexes, and why nothing was found. Whether something went wrong.
inline bool report_problems(const Json& body) {
  if (!body.contains("scanned")) return false;
  const Json& scanned = body["scanned"];
  const auto say = [](const char* before, const Json& text) {
    std::fprintf(stderr, "%s%s\n", before, visible(text.get<std::string>()).c_str());
  };
  for (const Json& p : scanned.value("problems", Json::array())) say("dingle: ", p);
  for (const Json& n : scanned.value("notes", Json::array())) say("note: ", n);
  return scanned.contains("problems");
}

}  // namespace dingle

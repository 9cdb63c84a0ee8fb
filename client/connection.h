// Calls to the API of a running dingled.
#pragma once

#include <functional>
#include <map>
#include <string>

#include "agent/json.h"
#include "client/command.h"

namespace dingle {

using Parameters = std::multimap<std::string, std::string>;

// What a call answered. On failure `ok` is false and the problem was printed to standard error, with a caret
// under the place in a condition.
struct Answer {
  bool ok = false;
  int status = 0;
  Json body;
};

// The same with the answer's text as it came; not ok if that is not an answer of success.
struct TextAnswer {
  bool ok = false;
  int status = 0;
  std::string body;
};

// The server's address and token come from the data folder; `--server` replaces the address.
Answer call(const Client& client, const std::string& method, const std::string& path,
            const Parameters& parameters = {}, bool print_problem = true, const std::string& body = "",
            const char* type = "application/json");
TextAnswer call_text(const Client& client, const std::string& method, const std::string& path,
                     const Parameters& parameters = {}, bool print_problem = true,
                     const std::string& body = "", const char* type = "application/json");
// Calls `take(line)` with each line of a stream until it answers false or the stream ends. An exit status.
int stream(const Client& client, const std::string& path, const Parameters& parameters,
           const std::function<bool(const std::string&)>& take);

}  // namespace dingle

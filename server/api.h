// The API under /v1, free of any HTTP library: requests in, answers out. The list of calls is one table, from
// which come dispatch, checking of parameters, and the OpenAPI document.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "agent/engine/engine.h"

namespace dingle {

struct ApiRequest {
  std::string method, path;
  std::multimap<std::string, std::string> parameters;  // of the query
  std::string accept;
  std::string body;
  std::string agent = {};  // the agent whose token was shown; "": the program's own
};

struct ApiAnswer {
  int status = 200;
  std::string content_type = "application/json";
  std::string body;
  // For a stream: called again and again for the next piece ("" : none now) until it answers false.
  std::function<bool(std::string& piece)> stream;
};

class ConfigurationFile;

class Api {
 public:
  // Both outlive it.
  Api(Engine& engine, ConfigurationFile& file) : engine_(engine), file_(file) {}
  ApiAnswer handle(const ApiRequest& request);
  Engine& engine() { return engine_; }
  ConfigurationFile& file() { return file_; }

 private:
  Engine& engine_;
  ConfigurationFile& file_;
  std::atomic<int> watchers_{0};
  friend struct Calls;
};

// The OpenAPI 3.1 document of the API.
std::string openapi_document();

// An error answer: {"error": {"message", "hint", "parameter", "offset", "length"}}.
ApiAnswer api_error(int status, const std::string& message, const std::string& hint = "",
                    const std::string& parameter = "", std::size_t offset = 0, std::size_t length = 0);

// The status of the engine as JSON, and as metrics (OpenMetrics 1.0, or the Prometheus text format 0.0.4).
std::string status_json(Engine& engine);
std::string metrics_text(Engine& engine, bool openmetrics);

}  // namespace dingle

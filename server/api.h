// The API under /v1: requests in, answers out. The list of calls is one table, from which come dispatch, checking of
// parameters, and the OpenAPI document.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "agent/engine/engine.h"
#include "net/http.h"

namespace dingle {

// Who calls, as `HttpRequest::who` says it: with the program's own token, or with an agent's, whose name follows.
inline const std::string kOwner = "owner", kAgent = "agent ";

class ConfigurationFile;

class Api {
 public:
  // Both outlive it.
  Api(Engine& engine, ConfigurationFile& file) : engine_(engine), file_(file) {}
  HttpAnswer handle(const HttpRequest& request);
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

// Problem details (RFC 9457), with `hint`, and the `parameter` and the bytes of it that are wrong.
HttpAnswer api_error(int status, const std::string& message, const std::string& hint = "",
                     const std::string& parameter = "", std::size_t offset = 0, std::size_t length = 0);

// The status of the engine as JSON, and as metrics (OpenMetrics 1.0, or the Prometheus text format 0.0.4).
std::string status_json(Engine& engine);
std::string metrics_text(Engine& engine, bool openmetrics);

}  // namespace dingle

// The API under /v1: requests in, answers out. From the registrations of its calls (server/calls/) come dispatch, the checking
// of parameters, and the OpenAPI document.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "agent/engine/engine.h"
#include "agent/engine/imports.h"
#include "agent/json.h"
#include "core/time/instant.h"
#include "net/http.h"
#include "server/asked_fields.h"

namespace dingle {

// Who calls, as `HttpRequest::who` says it: with the program's own token, or with an agent's or another one, whose name
// follows.
inline const std::string kOwner = "owner", kAgent = "agent ", kToken = "token ";

class ConfigurationFile;
class ApiTrace;
class Jobs;
class SampleSets;
class Tokens;
enum class Scope : unsigned;
struct Asked;
struct Call;

class Api {
 public:
  // They outlive it.
  Api(Engine& engine, ConfigurationFile& file, Tokens& tokens, Jobs& jobs, SampleSets& samples)
      : engine_(engine), file_(file), tokens_(tokens), jobs_(jobs), samples_(samples) {}
  HttpAnswer handle(const HttpRequest& request);
  // What is asked and answered is written there, as NDJSON, each call one line: for tests, and to find errors. Not for long: it
  // is neither bounded nor are lines of logs left out.
  void trace(const std::string& path);
  Engine& engine() { return engine_; }
  ConfigurationFile& file() { return file_; }
  Tokens& tokens() { return tokens_; }
  Jobs& jobs() { return jobs_; }
  SampleSets& samples() { return samples_; }
  Imports& imports() { return imports_; }
  AskedFields& asked_fields() { return asked_fields_; }
  std::int64_t started() const { return started_; }  // ns since 1970 UTC

  bool may(const HttpRequest& request, Scope scope) const;
  std::atomic<int> watchers{0};

 private:
  unsigned scopes_of(const std::string& who) const;
  HttpAnswer answer(const HttpRequest& request, const Call*& call);
  HttpAnswer ask_still(const Call& call, const Asked& asked);
  Engine& engine_;
  ConfigurationFile& file_;
  Tokens& tokens_;
  Jobs& jobs_;
  SampleSets& samples_;
  Imports imports_{engine_};
  std::shared_ptr<ApiTrace> trace_;
  AskedFields asked_fields_;
  const std::int64_t started_ = system_now();
};

// The OpenAPI 3.1 document of the API.
std::string openapi_document();

// Problem details (RFC 9457), with `hint`, and the `parameter` and the bytes of it that are wrong.
HttpAnswer api_error(int status, const std::string& message, const std::string& hint = "",
                     const std::string& parameter = "", std::size_t offset = 0, std::size_t length = 0);

// The status of the engine as JSON, with its schema, and as metrics (OpenMetrics 1.0, or the Prometheus text format 0.0.4).
std::string status_json(Engine& engine);
Json status_schema();
std::string metrics_text(Engine& engine, bool openmetrics);

}  // namespace dingle

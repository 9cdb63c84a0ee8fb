// What was asked of the API and answered, as NDJSON: {"method", "call", "status", "type", "body"}, and of a stream a line for
// each of its lines, with "line": true. Tests hold it against the API's description.
#pragma once

#include <memory>
#include <string>

#include "net/http.h"

namespace dingle {

struct Call;

// Thread-safe; several programs may write the same file.
class ApiTrace {
 public:
  explicit ApiTrace(const std::string& path);
  ~ApiTrace();
  ApiTrace(const ApiTrace&) = delete;
  ApiTrace& operator=(const ApiTrace&) = delete;
  // `call`: nullptr if there is no such. An answer that is a stream keeps the trace.
  static void note(const std::shared_ptr<ApiTrace>& trace, const HttpRequest& request, const Call* call,
                   HttpAnswer& answer);

 private:
  void write(const HttpRequest& request, const Call* call, const HttpAnswer& answer, const std::string& body,
             bool line);
  int file_;
};

}  // namespace dingle

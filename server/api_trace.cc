#include "server/api_trace.h"

#include <fcntl.h>
#include <unistd.h>

#include "agent/json.h"
#include "server/calls/call.h"

namespace dingle {

ApiTrace::ApiTrace(const std::string& path)
    : file_(::open(path.c_str(), O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0600)) {}
ApiTrace::~ApiTrace() { ::close(file_); }

void ApiTrace::note(const std::shared_ptr<ApiTrace>& trace, const HttpRequest& request, const Call* call,
                    HttpAnswer& answer) {
  if (!answer.stream) return trace->write(request, call, answer, answer.body, false);
  HttpAnswer head{answer.status, answer.content_type};
  trace->write(request, call, head, "", false);
  answer.stream = [trace, request = HttpRequest{request.method, request.target, request.path}, call, head,
                   next = std::move(answer.stream)](std::string& piece) {
    const bool more = next(piece);
    for (std::size_t at = 0, end; (end = piece.find('\n', at)) != std::string::npos; at = end + 1)
      trace->write(request, call, head, piece.substr(at, end - at), true);
    return more;
  };
}

void ApiTrace::write(const HttpRequest& request, const Call* call, const HttpAnswer& answer,
                     const std::string& body, bool line) {
  Json row{{"method", request.method},
           {"call", call ? call->path : request.path},
           {"status", answer.status},
           {"type", answer.content_type},
           {"line", line},
           {"body", body}};
  const std::string text = dump(row) + "\n";
  [[maybe_unused]] const auto written = ::write(file_, text.data(), text.size());
}

}  // namespace dingle

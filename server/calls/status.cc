// The calls about the program itself: its status, as JSON and as metrics, and what can be asked of it.
#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

HttpAnswer show_status(Api& api, const Asked&) {
  return {200, "application/json", status_json(api.engine())};
}

HttpAnswer show_metrics(Api& api, const Asked& asked) {
  const bool openmetrics =
      asked.request.header("Accept").find("application/openmetrics-text") != std::string_view::npos;
  return {200,
          openmetrics ? "application/openmetrics-text; version=1.0.0; charset=utf-8"
                      : "text/plain; version=0.0.4; charset=utf-8",
          metrics_text(api.engine(), openmetrics)};
}

HttpAnswer show_openapi(Api&, const Asked&) { return {200, "application/json", openapi_document()}; }

const CallRegistration kStatus(
    {.method = "GET",
     .path = "/v1/status",
     .name = "showStatus",
     .text = "What is read, matched, dropped, queued and sent, and what is wrong.",
     .run = show_status,
     .example =
         R"({"time":"2026-11-23T10:00:00Z","started":"2026-11-23T08:00:00Z","configuration":"b0e8f903","sources":[],
       "paused":false,"pipelines":[],"destinations":[],"balance":[{"stage":"source ticket-gate","in":1976,"accounted_for":1976}],
       "balanced":true,"spool":{"bytes":906281,"segments":1,"epoch":2,"failed_syncs":0,"damaged_records":0,"cut_bytes":0},
       "problems":[]})",
     .answer = status_schema});
const CallRegistration kMetrics(
    {.method = "GET",
     .path = "/metrics",
     .name = "showMetrics",
     .text = "The status as metrics: OpenMetrics, or the Prometheus text format, by Accept.",
     .run = show_metrics,
     .content_type = "text/plain",
     .other_type = "application/openmetrics-text"});
const CallRegistration kOpenApi({.method = "GET",
                                 .path = "/v1/openapi.json",
                                 .name = "describeApi",
                                 .text = "This document.",
                                 .run = show_openapi,
                                 .example = R"({"openapi":"3.1.0"})",
                                 .answer = [] { return map_of(is_anything()); }});

}  // namespace
}  // namespace dingle

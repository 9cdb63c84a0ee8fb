#include <algorithm>

#include "core/nearest.h"
#include "server/calls.h"
#include "server/handover.h"
#include "server/json_answer.h"
#include "server/parameters.h"

namespace dingle {

namespace {

constexpr int kMostWatchers = 8;

const std::vector<ParameterSpec> kQueryParameters{
    {"where", "string", "A search condition (docs/conditions.md). All events, if missing."},
    {"from", "string", "Event times from here on: RFC 3339, or how long ago (15m, 6h)."},
    {"to", "string", "Event times before this."},
    {"index", "string", "Names of indexes, `*` for any text; may be repeated. All, if missing."},
    {"destination", "string", "Only the indexes of this destination."},
    {"within", "string",
     "How long it may take: 60s if missing, 10m at most. Then it answers what it has, of the newest, and "
     "`complete` is false."}};

std::vector<ParameterSpec> with_query(std::vector<ParameterSpec> more) {
  more.insert(more.begin(), kQueryParameters.begin(), kQueryParameters.end());
  return more;
}

}  // namespace

// The calls; one function each.
struct Calls {
  static HttpAnswer status(Api& api, const HttpRequest&) {
    return {200, "application/json", status_json(api.engine_), nullptr};
  }

  static HttpAnswer watch(Api& api, const HttpRequest& r) {
    const Parameters p(r);
    Condition where = p.where();
    const std::string pipeline = p.text("pipeline");
    std::vector<std::string> names;
    for (const auto& settings : api.engine_.configuration()->pipelines) names.push_back(settings.name);
    if (!pipeline.empty() && std::find(names.begin(), names.end(), pipeline) == names.end())
      throw Refused{api_error(404, "there is no pipeline `" + pipeline + "`", did_you_mean(pipeline, names),
                              "pipeline")};
    if (api.watchers_.fetch_add(1) >= kMostWatchers) {
      --api.watchers_;
      return api_error(429, "8 are watching already", "end another one first");
    }
    // Counted as long as the stream lives, however it ends.
    struct Watching {
      Watching(Api& api_, std::shared_ptr<Live::Viewer> viewer_) : api(api_), viewer(std::move(viewer_)) {}
      Watching(const Watching&) = delete;
      Watching& operator=(const Watching&) = delete;
      Api& api;
      std::shared_ptr<Live::Viewer> viewer;
      ~Watching() {
        api.engine_.live().remove(viewer);
        --api.watchers_;
      }
    };
    auto watching = std::make_shared<Watching>(
        api, api.engine_.live().add(std::move(where), pipeline, p.flag("dropped")));
    HttpAnswer answer{200, "application/x-ndjson", "", nullptr};
    answer.stream = [watching](std::string& piece) {
      std::uint64_t missed = 0;
      piece = watching->viewer->take(0, &missed);
      if (missed) piece += dump({{"dingle.missed", missed}}) + "\n";
      return !watching->viewer->ended();
    };
    return answer;
  }

  static HttpAnswer openapi(Api&, const HttpRequest&) {
    return {200, "application/json", openapi_document(), nullptr};
  }
  static HttpAnswer metrics(Api& api, const HttpRequest& r) {
    const bool openmetrics = r.header("Accept").find("application/openmetrics-text") != std::string::npos;
    return {200,
            openmetrics ? "application/openmetrics-text; version=1.0.0; charset=utf-8"
                        : "text/plain; version=0.0.4; charset=utf-8",
            metrics_text(api.engine_, openmetrics), nullptr};
  }
};

const std::vector<Call>& calls() {
  static const std::vector<Call> all{
      {"GET",
       "/v1/status",
       "What is read, matched, dropped, queued and sent, and what is wrong.",
       {},
       Calls::status},
      {"GET",
       "/v1/events",
       "The newest events that satisfy a condition, newest first.",
       with_query({{"limit", "integer", "At most so many; 50, if missing."},
                   {"types", "boolean", "Name the types of the fields in `dingle.types`."}}),
       list_events,
       {},
       true},
      {"GET",
       "/v1/values",
       "The most frequent values of a field.",
       with_query(
           {{"field", "string", "The field."}, {"limit", "integer", "At most so many; 20, if missing."}}),
       top_values,
       {},
       true},
      {"GET",
       "/v1/timeline",
       "Counts or measures over event time.",
       with_query({{"bucket", "string", "The length of a bucket: 10s, 5m. Some sixty buckets, if missing."},
                   {"by", "string", "A field to split by; may be given twice."},
                   {"measure", "string", "count, sum, average, minimum, maximum, or percentile:95."},
                   {"field", "string", "The field that is measured; not for count."}}),
       count_over_time,
       {},
       true},
      {"GET",
       "/v1/indexes",
       "The indexes: events, bytes on disk, first and last event time.",
       {{"destination", "string", "Only those of this destination."}},
       list_indexes,
       {},
       true},
      {"DELETE",
       "/v1/indexes/{name}",
       "Deletes an index.",
       {{"destination", "string", "Only in this destination."}},
       remove_index,
       {},
       true},
      {"POST",
       "/v1/reload",
       "Reads the configuration file again and takes it, if it is sound.",
       {},
       reload_configuration,
       {{"who", "string", "Who wants it, as it stands in the list of versions."},
        {"note", "string", "What for."}},
       true},
      {"GET",
       "/v1/versions",
       "The configurations that ran and those that were refused, the newest first.",
       {{"limit", "integer", "At most so many; 50 if missing."}},
       list_versions,
       {},
       true},
      {"GET",
       "/v1/versions/{version}",
       "One version, with its text and findings.",
       {},
       show_version,
       {},
       true},
      {"POST",
       "/v1/return",
       "Writes the text of a former version into the configuration file, and takes it: only if what stands "
       "there is "
       "what runs.",
       {},
       return_to_version,
       {{"version", "integer", "Its number."},
        {"who", "string", "Who wants it, as it stands in the list of versions."},
        {"note", "string", "What for."}},
       true},
      {"GET",
       "/v1/watch",
       "Events as they arrive, as NDJSON, until the caller hangs up.",
       {{"where", "string", "A search condition."},
        {"pipeline", "string", "Only events of this pipeline."},
        {"dropped", "boolean",
         "Instead: what steps drop, and what no condition of a `to` holds for. `dingle.dropped_by` is the "
         "step's name or kind, "
         "or `to`; `dingle.step` its number."}},
       Calls::watch},
      {"GET",
       "/v1/leftovers",
       "Lines that no pipeline took, since the last reload, by source and shape: counts, a sample, and who "
       "was asked.",
       {{"source", "string", "Only those of this source."},
        {"limit", "integer", "At most so many shapes of each source; 20, if missing."}},
       leftover_lines},
      {"GET",
       "/v1/unmatched",
       "Lines of a pipeline that nothing matched, since the last reload, grouped by shape: counts, reasons, "
       "a sample, "
       "and templates that would match them.",
       {{"pipeline", "string", "The pipeline."},
        {"limit", "integer", "At most so many shapes; 20, if missing."}},
       unmatched_lines,
       {},
       true},
      {"GET",
       "/v1/lines",
       "The newest lines that a source has read, as they were, the oldest first.",
       {{"source", "string", "The source."},
        {"limit", "integer", "At most so many; 300, if missing, and at most 500."}},
       newest_lines},
      {"POST",
       "/v1/try",
       "Tries templates on lines: the fields of each, or where it fails, why, and what would help. Named "
       "patterns are "
       "those of the running configuration.",
       {},
       try_templates,
       {{"templates", "array", "The templates, in the order in which they are tried."},
        {"lines", "array", "The lines."},
        {"source", "string", "Instead of lines: the newest ones of this source."},
        {"open_end", "boolean", "The templates need only match the beginnings of the lines."}},
       true},
      {"POST",
       "/v1/draft",
       "Proposes templates for sample lines.",
       {},
       draft_lines,
       {{"lines", "array", "The lines, 5 to 100000."}},
       true},
      {"POST",
       kHandoverPath,
       "Stores events of an agent elsewhere, each once: NDJSON, one event a line (docs/handover.md).",
       {{"spool", "integer", "The sender's spool."},
        {"epoch", "integer", "Its epoch."},
        {"nonce", "integer", "Its nonce."},
        {"sender", "integer", "The destination's id there."},
        {"after_epoch", "integer", "The newest record of which the store has accepted something;"},
        {"after_number", "integer", "if it holds less, it was restored, and refuses with 409."},
        {"destination", "string", "The destination here; its only `index`, if missing."}},
       take_in},
      {"GET",
       "/v1/letters",
       "Dead letters: events that a destination refused, the oldest first.",
       {{"destination", "string", "Only of this destination."},
        {"reason", "string", "Only those with this text in their reason."},
        {"after", "integer", "Only those with a larger id."},
        {"limit", "integer", "At most so many; 50, if missing."}},
       list_letters,
       {},
       true},
      {"GET",
       "/v1/letters/reasons",
       "Dead letters counted by destination and reason, the most frequent first.",
       {{"destination", "string", "Only of this destination."},
        {"reason", "string", "Only those with this text in their reason."}},
       count_letters,
       {},
       true},
      {"POST",
       "/v1/letters/resend",
       "Sends dead letters again, once the cause is mended. A letter that is refused again comes back.",
       {},
       resend_letters,
       {{"ids", "integers", "Their ids; or"},
        {"destination", "string", "those of this destination; or"},
        {"reason", "string", "those with this text in their reason; or"},
        {"all", "boolean", "all."},
        {"through_pipeline", "boolean", "Run their lines through the pipeline again, as it is now."}},
       true},
      {"POST",
       "/v1/letters/discard",
       "Deletes dead letters.",
       {},
       discard_letters,
       {{"ids", "integers", "Their ids; or"},
        {"destination", "string", "those of this destination; or"},
        {"reason", "string", "those with this text in their reason; or"},
        {"all", "boolean", "all."}},
       true},
      {"GET", "/v1/openapi.json", "This document.", {}, Calls::openapi},
      {"GET",
       "/metrics",
       "The status as metrics: OpenMetrics, or the Prometheus text format, by Accept.",
       {},
       Calls::metrics},
  };
  return all;
}

namespace {

bool path_matches(const std::string& pattern, const std::string& path) {
  const std::size_t brace = pattern.find('{');
  if (brace == std::string::npos) return pattern == path;
  return path.size() > brace && path.compare(0, brace, pattern, 0, brace) == 0 &&
         path.find('/', brace) == std::string::npos;
}

}  // namespace

HttpAnswer api_error(int status, const std::string& message, const std::string& hint,
                     const std::string& parameter, std::size_t offset, std::size_t length) {
  HttpProblem problem{status, message, hint, parameter};
  if (length != 0) problem.offset = offset, problem.length = length;
  return problem_answer(problem);
}

// A question may be longer than an address: its parameters come as a form then.
bool takes_form(const Call& call) {
  return std::string_view(call.method) == "GET" &&
         std::any_of(call.parameters.begin(), call.parameters.end(),
                     [](const ParameterSpec& p) { return std::string_view(p.name) == "where"; });
}

bool is_long(const HttpRequest& head) {
  for (const Call& call : calls())
    if ((head.method == call.method || (head.method == "POST" && takes_form(call))) &&
        path_matches(call.path, head.path))
      return call.is_long;
  return false;
}

HttpAnswer Api::handle(const HttpRequest& request) {
  if (request.who.empty()) return api_error(401, "this call needs the token");
  bool path_known = false;
  std::vector<std::string> paths;
  for (const Call& call : calls()) {
    paths.push_back(call.path);
    if (!path_matches(call.path, request.path)) continue;
    path_known = true;
    if (request.method == "POST" && takes_form(call)) {
      if (!request.header("Content-Type").starts_with("application/x-www-form-urlencoded"))
        return api_error(415, "a question by POST is a form",
                         "Content-Type: application/x-www-form-urlencoded");
      auto form = parameters_of(request.body);
      if (!form) return api_error(400, "the form has too many parameters");
      HttpRequest asked = request;
      asked.method = call.method;
      asked.parameters.merge(*form);
      asked.body.clear();
      return handle(asked);
    }
    if (request.method != call.method) continue;
    std::vector<std::string> names;
    for (const ParameterSpec& p : call.parameters) names.push_back(p.name);
    for (const auto& [name, value] : request.parameters)
      if (std::find(names.begin(), names.end(), name) == names.end()) {
        const std::string near = did_you_mean(name, names);
        return api_error(400, "unknown parameter `" + name + "`",
                         !near.empty()   ? near
                         : names.empty() ? "this call takes none"
                                         : one_of(names),
                         name);
      }
    try {
      return call.run(*this, request);
    } catch (Refused& refused) {
      return std::move(refused.answer);
    } catch (const std::exception& error) {  // a damaged file, mostly
      return api_error(500, std::string("this could not be done: ") + error.what(),
                       "`dingle status` may know more; the program goes on");
    }
  }
  if (path_known) return api_error(405, request.method + " is not possible here");
  return api_error(404, "there is no `" + request.path + "`", did_you_mean(request.path, paths));
}

}  // namespace dingle

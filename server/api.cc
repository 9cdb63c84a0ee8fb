#include <algorithm>
#include <charconv>
#include <nlohmann/json.hpp>

#include "agent/trial.h"
#include "core/json_text.h"
#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls.h"
#include "server/intake.h"
#include "server/parameters.h"
#include "store/search.h"

namespace dingle {

using Json = nlohmann::ordered_json;

namespace {

constexpr int kMostWatchers = 8;

std::string dump(const Json& json) { return json.dump(-1, ' ', false, Json::error_handler_t::replace); }

const std::vector<ParameterSpec> kQueryParameters{
    {"where", "string", "A search condition (docs/conditions.md). All events, if missing."},
    {"from", "string", "Event times from here on: RFC 3339, or how long ago (15m, 6h)."},
    {"to", "string", "Event times before this."},
    {"index", "string", "Names of indexes, `*` for any text; may be repeated. All, if missing."},
    {"destination", "string", "Only the indexes of this destination."}};

std::vector<ParameterSpec> with_query(std::vector<ParameterSpec> more) {
  more.insert(more.begin(), kQueryParameters.begin(), kQueryParameters.end());
  return more;
}

Json value_json(const Value& v) {
  switch (v.kind()) {
    case Kind::absent: return nullptr;
    case Kind::integer: return v.as_integer();
    case Kind::decimal: return v.as_decimal();
    case Kind::boolean: return v.as_boolean();
    default: return v.to_string();
  }
}

Json scanned_json(const Scanned& s) {
  Json j{{"matched", s.matched},
         {"events_read", s.events},
         {"blocks", s.blocks},
         {"blocks_left_out", s.blocks_left_out},
         {"indexes", s.indexes}};
  if (!s.problems.empty()) j["problems"] = s.problems;
  return j;
}

}  // namespace

// The calls; one function each.
struct Calls {
  struct Held {
    std::vector<std::shared_ptr<Store>> owners;
    std::vector<const Store*> stores;
  };
  static Held stores(Api& api, const Parameters& p) {
    Held held;
    const std::string destination = p.text("destination");
    held.owners = api.engine_.stores(destination);
    if (held.owners.empty() && !destination.empty()) {
      std::vector<std::string> names;
      for (const auto& d : api.engine_.destinations())
        if (d.kind == "index") names.push_back(d.name);
      throw Refused{api_error(404, "there is no destination `" + destination + "` of the kind `index`",
                              did_you_mean(destination, names), "destination")};
    }
    for (const auto& s : held.owners) held.stores.push_back(s.get());
    return held;
  }

  static ApiAnswer status(Api& api, const ApiRequest&) {
    return {200, "application/json", status_json(api.engine_), nullptr};
  }

  static ApiAnswer events(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const Held held = stores(api, p);
    Scanned scanned;
    const auto found = find_events(held.stores, p.query(), p.number("limit", 50, 10'000),
                                   p.text("types") == "true", scanned);
    std::string out = "{\"events\":[";
    for (std::size_t i = 0; i < found.size(); ++i) {
      if (i) out += ',';
      out += found[i].json;
    }
    out += "],\"scanned\":" + dump(scanned_json(scanned)) + "}";
    return {200, "application/json", std::move(out), nullptr};
  }

  static ApiAnswer values(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    Grouping g;
    g.fields = {p.text("field")};
    if (g.fields[0].empty())
      throw Refused{api_error(400, "`field` is missing", "name the field whose values are counted", "field")};
    Scanned scanned;
    const Held held = stores(api, p);
    Grouped grouped = group_events(held.stores, p.query(), g, scanned);
    const std::size_t limit = p.number("limit", 20, kMostGroups);
    Json root{{"field", g.fields[0]}, {"values", Json::array()}};
    std::uint64_t without = 0, others = 0;
    std::size_t distinct = 0;
    for (const Group& group : grouped.groups) {
      if (group.keys[0].absent())
        without = group.count;
      else if (++distinct <= limit)
        root["values"].push_back({{"value", value_json(group.keys[0])}, {"count", group.count}});
      else
        others += group.count;
    }
    root["distinct"] = distinct;
    root["others"] = others;
    root["without"] = without;
    root["approximate"] = grouped.approximate;
    root["scanned"] = scanned_json(scanned);
    return {200, "application/json", dump(root), nullptr};
  }

  static ApiAnswer timeline(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const Held held = stores(api, p);
    Query query = p.query();
    Grouping g;
    g.fields = p.texts("by");
    if (g.fields.size() > 2) throw Refused{api_error(400, "`by` may be given twice at most", "", "by")};
    measure(p, g);
    // Without a range: from the first to the last event that there is.
    if (p.text("from").empty() || p.text("to").empty()) {
      std::int64_t first = std::numeric_limits<std::int64_t>::max(),
                   last = std::numeric_limits<std::int64_t>::min();
      for (const Store* store : held.stores)
        for (const IndexInfo& info : store->indexes())
          if (info.events && (query.indexes.empty() || std::any_of(query.indexes.begin(), query.indexes.end(),
                                                                   [&](const std::string& glob) {
                                                                     return matches_glob(info.name, glob);
                                                                   })))
            first = std::min(first, info.first), last = std::max(last, info.last);
      if (first <= last && p.text("from").empty()) query.from = first;
      if (first <= last && p.text("to").empty()) query.to = last + 1;
      if (first > last) query.from = query.to = 0;
    }
    const std::int64_t span = query.to > query.from ? query.to - query.from : 0;
    g.bucket = p.duration("bucket", nice_bucket(span));
    constexpr std::int64_t kMostBuckets = 5000;
    if (span / g.bucket > kMostBuckets)
      throw Refused{api_error(400, "that would be more than 5000 buckets",
                              "take a longer bucket or a shorter time", "bucket")};
    Scanned scanned;
    Grouped grouped = group_events(held.stores, query, g, scanned);
    Json root{
        {"bucket_seconds", static_cast<double>(g.bucket) / 1e9}, {"by", g.fields}, {"rows", Json::array()}};
    if (span > 0) root["from"] = format_rfc3339(query.from), root["to"] = format_rfc3339(query.to);
    for (const Group& group : grouped.groups) {
      Json row{{"time", format_rfc3339(group.bucket)}};
      for (std::size_t i = 0; i < g.fields.size(); ++i) row["keys"].push_back(value_json(group.keys[i]));
      row["count"] = group.count;
      if (g.measure != Measure::count) row["value"] = group.value;
      root["rows"].push_back(std::move(row));
    }
    root["approximate"] = grouped.approximate;
    root["scanned"] = scanned_json(scanned);
    return {200, "application/json", dump(root), nullptr};
  }

  static void measure(const Parameters& p, Grouping& g) {
    const std::string measure = p.text("measure", "count");
    static const std::vector<std::pair<std::string, Measure>> kMeasures{
        {"count", Measure::count},     {"sum", Measure::sum},         {"average", Measure::average},
        {"minimum", Measure::minimum}, {"maximum", Measure::maximum}, {"percentile", Measure::percentile}};
    std::vector<std::string> names;
    bool known = false;
    for (const auto& [name, m] : kMeasures) {
      names.push_back(name);
      if (measure == name) g.measure = m, known = true;
    }
    if (measure.starts_with("percentile:")) {
      g.measure = Measure::percentile;
      known = true;
      const std::string rank = measure.substr(11);
      auto r = std::from_chars(rank.data(), rank.data() + rank.size(), g.percentile);
      if (r.ec != std::errc() || r.ptr != rank.data() + rank.size() || g.percentile < 0 || g.percentile > 100)
        throw Refused{api_error(400, "`" + rank + "` is not a percentile",
                                "a number from 0 to 100, for instance percentile:95", "measure")};
    }
    if (!known) throw Refused{api_error(400, "unknown measure `" + measure + "`", one_of(names), "measure")};
    g.field = p.text("field");
    if (g.measure != Measure::count && g.field.empty())
      throw Refused{api_error(400, "`field` is missing", "name the field that is measured", "field")};
  }

  // Some sixty buckets of a length that people count in.
  static std::int64_t nice_bucket(std::int64_t span) {
    for (std::int64_t seconds :
         {1, 5, 10, 30, 60, 300, 600, 1800, 3600, 3 * 3600, 6 * 3600, 12 * 3600, 86400, 7 * 86400})
      if (span / (seconds * kSecond) <= 60) return seconds * kSecond;
    return 30 * kDay;
  }

  static ApiAnswer indexes(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const std::string only = p.text("destination");
    Json root{{"indexes", Json::array()}};
    stores(api, p);  // for its error
    for (const auto& d : api.engine_.destinations()) {
      if (d.kind != "index" || (!only.empty() && d.name != only)) continue;
      for (const auto& store : api.engine_.stores(d.name))
        for (const IndexInfo& info : store->indexes()) {
          Json j{{"name", info.name},
                 {"destination", d.name},
                 {"events", info.events},
                 {"blocks", info.blocks},
                 {"bytes", info.bytes}};
          if (info.events) j["first"] = format_rfc3339(info.first), j["last"] = format_rfc3339(info.last);
          root["indexes"].push_back(std::move(j));
        }
    }
    return {200, "application/json", dump(root), nullptr};
  }

  static ApiAnswer remove_index(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const std::string name = r.path.substr(std::string("/v1/indexes/").size());
    std::vector<std::string> names;
    bool removed = false;
    for (const auto& store : stores(api, p).owners) {
      for (const std::string& known : store->names()) names.push_back(known);
      removed = store->remove(name) || removed;
    }
    if (!removed) return api_error(404, "there is no index `" + name + "`", did_you_mean(name, names));
    return {200, "application/json", dump({{"deleted", name}}), nullptr};
  }

  static ApiAnswer reload(Api& api, const ApiRequest&) { return api.reload_(); }

  // The texts of a list in a request's body.
  static std::vector<std::string> texts_of(const Json& body, const char* name) {
    std::vector<std::string> all;
    if (!body.contains(name)) return all;
    const Json& list = body[name];
    const bool texts =
        list.is_array() && std::all_of(list.begin(), list.end(), [](const Json& j) { return j.is_string(); });
    if (!texts || list.size() > 100'000)
      throw Refused{
          api_error(400, std::string("`") + name + "` must be a list of at most 100000 texts", "", name)};
    for (const Json& text : list) all.push_back(text.get<std::string>());
    return all;
  }

  static ApiAnswer try_templates(Api& api, const ApiRequest& r) {
    const Json body = body_of(r);
    auto configuration = api.engine_.configuration();
    const PatternLibrary& library = *configuration->patterns;
    std::vector<std::shared_ptr<const Template>> all;
    Json problems = Json::array();
    const auto texts = texts_of(body, "templates");
    for (std::size_t i = 0; i < texts.size(); ++i) {
      std::vector<Problem> found;
      auto t = Template::compile(texts[i], library, {.open_end = body.value("open_end", false)}, found);
      for (const Problem& p : found)
        problems.push_back({{"template", i + 1},
                            {"offset", p.offset},
                            {"length", p.length},
                            {"message", p.message},
                            {"hint", p.hint}});
      if (t) all.push_back(t);
    }
    if (texts.empty())
      throw Refused{api_error(400, "`templates` is missing", "send at least one", "templates")};
    if (!problems.empty()) return {200, "application/json", dump({{"problems", problems}}), nullptr};
    const TemplateSet set(all);
    TrialSummary summary;
    Json lines = Json::array();
    std::vector<std::string> tried = texts_of(body, "lines");
    if (body.contains("source")) tried = api.engine_.newest_lines().of(body.value("source", ""), 500);
    constexpr std::size_t kMostAdvised = 50;
    for (std::size_t i = 0; i < tried.size(); ++i) {
      Arena arena;
      const TriedLine line =
          try_line(set, library, i + 1, tried[i], system_now(), arena, summary.unmatched < kMostAdvised);
      summary.add(line);
      lines.push_back(json_of(line));
    }
    return {200, "application/json",
            dump({{"problems", problems}, {"summary", summary.json()}, {"lines", lines}}), nullptr};
  }

  static ApiAnswer draft(Api&, const ApiRequest& r) {
    const std::vector<std::string> lines = texts_of(body_of(r), "lines");
    const std::vector<std::string_view> views(lines.begin(), lines.end());
    return {200, "application/json", dump(json_of(draft_templates(views, system_now()))), nullptr};
  }

  static ApiAnswer lines(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const std::string source = p.text("source");
    auto configuration = api.engine_.configuration();
    if (configuration->source(source) == nullptr) {
      std::vector<std::string> names;
      for (const auto& s : configuration->sources) names.push_back(s.name);
      throw Refused{api_error(
          404, "there is no source `" + source + "`",
          did_you_mean(source, names).empty() ? one_of(names) : did_you_mean(source, names), "source")};
    }
    Json all = Json::array();
    for (const std::string& line :
         api.engine_.newest_lines().of(source, p.number("limit", 300, NewestLines::kLines)))
      all.push_back(valid_utf8(line));
    return {200, "application/json", dump({{"source", source}, {"lines", all}}), nullptr};
  }

  static ApiAnswer unmatched(Api& api, const ApiRequest& r) {
    const Parameters p(r);
    const std::string pipeline = p.text("pipeline");
    auto configuration = api.engine_.configuration();
    std::vector<std::string> names;
    for (const auto& one : configuration->pipelines) names.push_back(one.name);
    if (std::find(names.begin(), names.end(), pipeline) == names.end())
      throw Refused{api_error(
          404, "there is no pipeline `" + pipeline + "`",
          did_you_mean(pipeline, names).empty() ? one_of(names) : did_you_mean(pipeline, names), "pipeline")};
    std::uint64_t others = 0;
    const auto shapes = api.engine_.unmatched().shapes(pipeline, &others);
    Json all = Json::array();
    const std::size_t most = p.number("limit", 20, UnmatchedSample::kMostShapes);
    for (std::size_t i = 0; i < std::min(most, shapes.size()); ++i) {
      const UnmatchedShape& s = shapes[i];
      Json row{{"shape", valid_utf8(s.shape)},
               {"count", s.count},
               {"first", format_rfc3339(s.first)},
               {"last", format_rfc3339(s.last)},
               {"reason", valid_utf8(s.reason)},
               {"column", s.column},
               {"lines", Json::array()}};
      for (const std::string& line : s.lines) row["lines"].push_back(valid_utf8(line));
      const std::vector<std::string_view> views(s.lines.begin(), s.lines.end());
      const Draft drafted = draft_templates(views, system_now());
      row["drafts"] = Json::array();
      if (drafted.json) row["drafts"].push_back("(a JSON object: the step `json`)");
      for (const DraftTemplate& t : drafted.templates) row["drafts"].push_back(valid_utf8(t.text));
      all.push_back(std::move(row));
    }
    return {
        200, "application/json",
        dump({{"pipeline", pipeline}, {"shapes", all}, {"shapes_known", shapes.size()}, {"others", others}}),
        nullptr};
  }

  static ApiAnswer watch(Api& api, const ApiRequest& r) {
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
    auto watching = std::make_shared<Watching>(api, api.engine_.live().add(std::move(where), pipeline));
    ApiAnswer answer{200, "application/x-ndjson", "", nullptr};
    answer.stream = [watching](std::string& piece) {
      std::uint64_t missed = 0;
      piece = watching->viewer->take(500, &missed);
      if (missed) piece += dump({{"dingle.missed", missed}}) + "\n";
      return !watching->viewer->ended();
    };
    return answer;
  }

  static ApiAnswer openapi(Api&, const ApiRequest&) {
    return {200, "application/json", openapi_document(), nullptr};
  }
  static ApiAnswer metrics(Api& api, const ApiRequest& r) {
    const bool openmetrics = r.accept.find("application/openmetrics-text") != std::string::npos;
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
      {"GET", "/v1/events", "The newest events that satisfy a condition, newest first.",
       with_query({{"limit", "integer", "At most so many; 50, if missing."},
                   {"types", "boolean", "Name the types of the fields in `dingle.types`."}}),
       Calls::events},
      {"GET", "/v1/values", "The most frequent values of a field.",
       with_query(
           {{"field", "string", "The field."}, {"limit", "integer", "At most so many; 20, if missing."}}),
       Calls::values},
      {"GET", "/v1/timeline", "Counts or measures over event time.",
       with_query({{"bucket", "string", "The length of a bucket: 10s, 5m. Some sixty buckets, if missing."},
                   {"by", "string", "A field to split by; may be given twice."},
                   {"measure", "string", "count, sum, average, minimum, maximum, or percentile:95."},
                   {"field", "string", "The field that is measured; not for count."}}),
       Calls::timeline},
      {"GET",
       "/v1/indexes",
       "The indexes: events, bytes on disk, first and last event time.",
       {{"destination", "string", "Only those of this destination."}},
       Calls::indexes},
      {"DELETE",
       "/v1/indexes/{name}",
       "Deletes an index.",
       {{"destination", "string", "Only in this destination."}},
       Calls::remove_index},
      {"POST",
       "/v1/reload",
       "Reads the configuration file again and takes it, if it is sound.",
       {},
       Calls::reload},
      {"GET",
       "/v1/watch",
       "Events as they arrive, as NDJSON, until the caller hangs up.",
       {{"where", "string", "A search condition."}, {"pipeline", "string", "Only events of this pipeline."}},
       Calls::watch},
      {"GET",
       "/v1/unmatched",
       "Lines of a pipeline that nothing matched, since the last reload, grouped by shape: counts, reasons, "
       "a sample, "
       "and templates that would match them.",
       {{"pipeline", "string", "The pipeline."},
        {"limit", "integer", "At most so many shapes; 20, if missing."}},
       Calls::unmatched},
      {"GET",
       "/v1/lines",
       "The newest lines that a source has read, as they were, the oldest first.",
       {{"source", "string", "The source."},
        {"limit", "integer", "At most so many; 300, if missing, and at most 500."}},
       Calls::lines},
      {"POST",
       "/v1/try",
       "Tries templates on lines: the fields of each, or where it fails, why, and what would help. Named "
       "patterns are "
       "those of the running configuration.",
       {},
       Calls::try_templates,
       {{"templates", "array", "The templates, in the order in which they are tried."},
        {"lines", "array", "The lines."},
        {"source", "string", "Instead of lines: the newest ones of this source."},
        {"open_end", "boolean", "The templates need only match the beginnings of the lines."}}},
      {"POST",
       "/v1/draft",
       "Proposes templates for sample lines.",
       {},
       Calls::draft,
       {{"lines", "array", "The lines, 5 to 100000."}}},
      {"POST",
       kIntakePath,
       "Stores events of an agent elsewhere, each once: NDJSON, one event a line (docs/intake.md).",
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
       list_letters},
      {"GET",
       "/v1/letters/reasons",
       "Dead letters counted by destination and reason, the most frequent first.",
       {{"destination", "string", "Only of this destination."},
        {"reason", "string", "Only those with this text in their reason."}},
       count_letters},
      {"POST",
       "/v1/letters/resend",
       "Sends dead letters again, once the cause is mended. A letter that is refused again comes back.",
       {},
       resend_letters,
       {{"ids", "array", "Their ids; or"},
        {"destination", "string", "those of this destination; or"},
        {"reason", "string", "those with this text in their reason; or"},
        {"all", "boolean", "all."},
        {"through_pipeline", "boolean", "Run their lines through the pipeline again, as it is now."}}},
      {"POST",
       "/v1/letters/discard",
       "Deletes dead letters.",
       {},
       discard_letters,
       {{"ids", "array", "Their ids; or"},
        {"destination", "string", "those of this destination; or"},
        {"reason", "string", "those with this text in their reason; or"},
        {"all", "boolean", "all."}}},
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

Api::Api(Engine& engine, std::function<ApiAnswer()> reload) : engine_(engine), reload_(std::move(reload)) {}

ApiAnswer api_error(int status, const std::string& message, const std::string& hint,
                    const std::string& parameter, std::size_t offset, std::size_t length) {
  Json error{{"message", message}};
  if (!hint.empty()) error["hint"] = hint;
  if (!parameter.empty()) error["parameter"] = parameter;
  if (length) error["offset"] = offset, error["length"] = length;
  return {status, "application/json", dump({{"error", error}}), nullptr};
}

ApiAnswer Api::handle(const ApiRequest& request) {
  bool path_known = false;
  std::vector<std::string> paths;
  for (const Call& call : calls()) {
    paths.push_back(call.path);
    if (!path_matches(call.path, request.path)) continue;
    path_known = true;
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
    }
  }
  if (path_known) return api_error(405, request.method + " is not possible here");
  return api_error(404, "there is no `" + request.path + "`", did_you_mean(request.path, paths));
}

}  // namespace dingle

// Events as they arrive.
#include <algorithm>
#include <memory>
#include <utility>

#include "core/nearest.h"
#include "server/calls/call.h"

namespace dingle {
namespace {

constexpr int kMostWatchers = 8;

// Counted as long as the stream lives, however it ends.
struct Watching {
  Watching(Api& api_, std::shared_ptr<Live::Viewer> viewer_) : api(api_), viewer(std::move(viewer_)) {}
  Watching(const Watching&) = delete;
  Watching& operator=(const Watching&) = delete;
  ~Watching() {
    api.engine().live().remove(viewer);
    --api.watchers;
  }
  Api& api;
  std::shared_ptr<Live::Viewer> viewer;
};

HttpAnswer watch(Api& api, const Asked& asked) {
  if (asked.flag("dropped") && !api.may(asked.request, Scope::lines))
    return api_error(403, "this token may not see what is dropped", "it takes one with the scope `lines`",
                     "dropped");
  Condition where = asked.where();
  const std::string pipeline = asked.text("pipeline");
  std::vector<std::string> names;
  for (const auto& settings : api.engine().configuration()->pipelines) names.push_back(settings.name);
  if (asked.given("pipeline") && std::find(names.begin(), names.end(), pipeline) == names.end())
    throw Refused{
        api_error(404, "there is no pipeline `" + pipeline + "`", did_you_mean(pipeline, names), "pipeline")};
  if (api.watchers.fetch_add(1) >= kMostWatchers) {
    --api.watchers;
    return api_error(429, "8 are watching already", "end another one first");
  }
  auto watching = std::make_shared<Watching>(
      api, api.engine().live().add(std::move(where), pipeline, asked.flag("dropped")));
  HttpAnswer answer{200, "application/x-ndjson"};
  HttpRequest caller;
  caller.who = asked.request.who;
  const Scope needed = asked.flag("dropped") ? Scope::lines : Scope::read;
  answer.stream = [watching, caller, needed](std::string& piece) {
    if (!watching->api.may(caller, needed)) return false;  // the token was removed, or may less
    std::uint64_t missed = 0;
    piece = watching->viewer->take(0, &missed);
    if (missed) piece += dump({{"dingle.missed", missed}}) + "\n";
    return !watching->viewer->ended();
  };
  return answer;
}

const CallRegistration kWatch(
    {.method = "GET",
     .path = "/v1/watch",
     .name = "watchEvents",
     .text = "Events as they arrive, as NDJSON, until the caller hangs up.",
     .parameters =
         {{.name = "where", .type = OptionType::condition, .text = "A search condition."},
          {.name = "pipeline", .text = "Only events of this pipeline."},
          {.name = "dropped",
           .type = OptionType::boolean,
           .text = "Instead: what steps drop, and what no condition of a `to` holds for. "
                   "`dingle.dropped_by` is the step's name or kind, or `to`; `dingle.step` its number."}},
     .run = watch,
     .content_type = "application/x-ndjson",
     .line = [] { return map_of(is_anything()); }});

}  // namespace
}  // namespace dingle

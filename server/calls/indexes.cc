// The calls about indexes: what there is, and deleting some.
#include <algorithm>

#include "core/nearest.h"
#include "core/time/instant.h"
#include "server/calls/call.h"
#include "server/jobs/jobs.h"
#include "server/json_answer.h"
#include "server/log.h"
#include "store/search.h"

namespace dingle {
namespace {

constexpr const char* kDelete = "delete indexes";

// The stores of a destination, or of all; by the destinations' names.
std::vector<std::pair<std::string, std::shared_ptr<Store>>> stores_of(Engine& engine, const Asked& asked) {
  const std::string& only = asked.text("destination");
  std::vector<std::pair<std::string, std::shared_ptr<Store>>> all;
  std::vector<std::string> names;
  for (const auto& d : engine.destinations()) {
    if (d.kind != "index") continue;
    names.push_back(d.name);
    if (!asked.given("destination") || d.name == only)
      for (auto& store : engine.stores(d.name)) all.emplace_back(d.name, std::move(store));
  }
  if (all.empty() && asked.given("destination"))
    throw Refused{api_error(404, "there is no destination `" + only + "` of the kind `index`",
                            did_you_mean(only, names), "destination")};
  return all;
}

constexpr std::size_t kMostRemovedShown = 100;

// `keep.age` of a destination, in ns; 0: for ever.
std::int64_t age_kept(const Configuration& c, const std::string& destination) {
  for (const DestinationSettings& d : c.destinations)
    if (d.name == destination) return d.options.section("keep").number("age");
  return 0;
}

Json removed_from(const std::vector<std::pair<std::string, std::shared_ptr<Store>>>& stores) {
  std::vector<std::pair<std::int64_t, Json>> all;
  for (const auto& [destination, store] : stores)
    for (const Removed& r : store->removed())
      all.emplace_back(r.at, Json{{"name", r.index},
                                  {"destination", destination},
                                  {"events", r.events},
                                  {"bytes", r.bytes},
                                  {"at", format_rfc3339(r.at)},
                                  {"why", r.why}});
  std::stable_sort(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  Json shown = Json::array();
  for (std::size_t i = 0; i < std::min(all.size(), kMostRemovedShown); ++i)
    shown.push_back(std::move(all[i].second));
  return shown;
}

HttpAnswer list_indexes(Api& api, const Asked& asked) {
  const auto stores = stores_of(api.engine(), asked);
  const auto configuration = api.engine().configuration();
  Json root{{"indexes", Json::array()}, {"removed", removed_from(stores)}};
  for (const auto& [destination, store] : stores) {
    const std::int64_t age = age_kept(*configuration, destination);
    for (const IndexInfo& info : store->indexes()) {
      Json j{{"name", info.name},
             {"destination", destination},
             {"events", info.events},
             {"blocks", info.blocks},
             {"bytes", info.bytes}};
      if (info.events) j["first"] = format_rfc3339(info.first), j["last"] = format_rfc3339(info.last);
      std::int64_t goes = 0;
      if (age != 0 && info.events != 0 && !__builtin_add_overflow(Store::newest_in(info), age, &goes))
        j["goes"] = format_rfc3339(goes);
      root["indexes"].push_back(std::move(j));
    }
  }
  return json_answer(root);
}

// Which are meant is settled here: those that come later are not.
HttpAnswer delete_indexes(Api& api, const Asked& asked) {
  const auto stores = stores_of(api.engine(), asked);
  Json meant = Json::array();
  std::string what;
  for (const std::string& name : asked.texts("indexes")) {
    std::vector<std::string> known;
    const std::size_t before = meant.size();
    for (const auto& [destination, store] : stores) {
      std::vector<IndexInfo> all = store->indexes();
      for (const std::string& gone : store->missing()) all.push_back({.name = gone});
      for (const IndexInfo& info : all) {
        known.push_back(info.name);
        Json one{{"destination", destination},
                 {"index", info.name},
                 {"events", info.events},
                 {"bytes", info.bytes}};
        if (matches_glob(info.name, name) && std::find(meant.begin(), meant.end(), one) == meant.end())
          meant.push_back(std::move(one));
      }
    }
    const bool again =
        meant.size() == before &&
        std::any_of(known.begin(), known.end(), [&](const std::string& k) { return matches_glob(k, name); });
    if (meant.size() == before && !again)
      return api_error(404, "there is no index `" + name + "`", did_you_mean(name, known), "indexes");
    what += (what.empty() ? "" : ", ") + name;
  }
  if (asked.given("destination")) what += " of " + asked.text("destination");
  std::string problem;
  const std::int64_t id = api.jobs().add(kDelete, what, asked.request.who, {{"indexes", meant}}, problem);
  return started_job(api, id, problem);
}

// A position: { "next": the number of the one that comes next }.
bool run_delete(JobWork& work, std::string& problem) {
  const Json& indexes = work.request["indexes"];
  work.total = indexes.size();
  if (!work.position.is_object()) work.result = {{"deleted", Json::array()}, {"events", 0}, {"bytes", 0}};
  for (std::size_t i = work.position.is_object() ? work.position["next"].get<std::size_t>() : 0;
       i < indexes.size();) {
    if (work.ends()) return false;
    const Json& one = indexes[i];
    const std::string name = one["index"], destination = one["destination"];
    const auto stores = work.engine.stores(destination);
    if (stores.empty()) return problem = "the destination " + destination + " is gone", false;
    stores[0]->remove(name, "deleted by " + work.by);
    const auto names = stores[0]->names();
    if (std::find(names.begin(), names.end(), name) != names.end())
      return problem = "the index " + name + " cannot be removed: is the disk full?", false;
    // It may have gone before: just before the program ended.
    work.result["deleted"].push_back(name);
    for (const char* sum : {"events", "bytes"})
      work.result[sum] = work.result[sum].get<std::uint64_t>() + one[sum].get<std::uint64_t>();
    log_info("index deleted", {{"name", name}, {"by", work.by}});
    work.position = {{"next", ++i}};
    work.done = i;
    work.reached();
  }
  return true;
}
const JobKindRegistration kDeleteJob({kDelete, "indexes", run_delete});

const CallRegistration kIndexes(
    {.method = "GET",
     .path = "/v1/indexes",
     .name = "listIndexes",
     .text = "The indexes: events, bytes on disk, first and last event time, and when `keep.age` removes one "
             "(`goes`). `removed` are the "
             "newest of those that went, by retention or deleted, the newest first.",
     .parameters = {{.name = "destination", .text = "Only those of this destination."}},
     .run = list_indexes,
     .example = R"({"indexes":[{"name":"gate-2026-11-22","destination":"store","events":120000,"blocks":30,
       "bytes":9437184,"first":"2026-11-22T00:00:01Z","last":"2026-11-22T23:59:58Z","goes":"2026-12-22T23:59:58Z"}],
       "removed":[{"name":"gate-2026-10-22","destination":"store","events":110000,"bytes":9000000,"at":"2026-11-21T23:59:59Z",
       "why":"its last event and its last arrival are older than `keep.age`"}]})",
     .answer =
         [] {
           return object_of({{"indexes", list_of(object_of({{"name", is_text()},
                                                            {"destination", is_text()},
                                                            {"events", is_integer()},
                                                            {"blocks", is_integer()},
                                                            {"bytes", is_integer()},
                                                            {"first", is_moment(), false},
                                                            {"last", is_moment(), false},
                                                            {"goes", is_moment(), false}}))},
                             {"removed", list_of(object_of({{"name", is_text()},
                                                            {"destination", is_text()},
                                                            {"events", is_integer()},
                                                            {"bytes", is_integer()},
                                                            {"at", is_moment()},
                                                            {"why", is_text()}}))}});
         },
     .is_long = true});
const CallRegistration kDeleteIndexes(
    {.method = "POST",
     .path = "/v1/indexes/delete",
     .name = "deleteIndexes",
     .text = "Deletes indexes, those that are there now: a job.",
     .body = {{.name = "indexes",
               .type = OptionType::texts,
               .text = "Their names, `*` for any text.",
               .required = true},
              {.name = "destination", .text = "Only in this destination."}},
     .run = delete_indexes,
     .example = R"({"id":8,"kind":"delete indexes","what":"gate-2026-10-*","by":"owner","state":"waiting",
       "asked":"2026-11-23T10:00:00Z","began":null,"ended":null,"done":0,"total":0,"unit":"indexes","rate":null,
       "seconds_left":null,"result":{}})",
     .answer = job_schema,
     .status = 202,
     .is_long = true,
     .scope = Scope::operate});

}  // namespace
}  // namespace dingle

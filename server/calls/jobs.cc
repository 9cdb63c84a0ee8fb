// The calls about jobs.
#include "server/jobs/jobs.h"

#include <charconv>

#include "server/calls/call.h"
#include "server/json_answer.h"

namespace dingle {
namespace {

// The job that the path names.
Job job_of(Api& api, const std::string& given) {
  Job job;
  const auto [end, error] = std::from_chars(given.data(), given.data() + given.size(), job.id);
  if (error != std::errc() || end != given.data() + given.size())
    throw Refused{api_error(400, "`" + given + "` is no job's number", "dingle jobs lists them", "id")};
  if (!api.jobs().get(job.id, job))
    throw Refused{
        api_error(404, "there is no job " + given, "dingle jobs lists those that are remembered", "id")};
  return job;
}

HttpAnswer list_jobs(Api& api, const Asked& asked) {
  Json list = Json::array();
  for (const Job& job : api.jobs().list(asked.number("limit"))) list.push_back(json_of(job));
  return json_answer({{"jobs", list}, {"forgotten", api.jobs().forgotten()}});
}

HttpAnswer show_job(Api& api, const Asked& asked) {
  const Job job = job_of(api, asked.part);
  if (!asked.flag("follow")) return json_answer(json_of(job));
  HttpAnswer answer{200, "application/x-ndjson"};
  answer.stream = [&api, id = job.id, last = std::string()](std::string& piece) mutable {
    Job now;
    if (!api.jobs().get(id, now)) return false;
    std::string text = dump(json_of(now)) + "\n";
    if (text != last) piece = last = std::move(text);
    return now.state == JobState::waiting || now.state == JobState::running ||
           now.state == JobState::stopping;
  };
  return answer;
}

HttpAnswer act_on_job(Api& api, const Asked& asked) {
  const Job job = job_of(api, asked.part);
  const std::string& act = asked.text("act");
  const std::string problem = act == "stop" ? api.jobs().stop(job.id, asked.request.who)
                                            : api.jobs().resume(job.id, asked.request.who);
  if (!problem.empty())
    return api_error(409,
                     "job " + asked.part + " cannot " + (act == "stop" ? "stop" : "go on") + ": " + problem);
  return json_answer(json_of(job_of(api, asked.part)));
}

}  // namespace

HttpAnswer started_job(Api& api, std::int64_t id, const std::string& problem) {
  Job job;
  if (id == 0 || !api.jobs().get(id, job)) return api_error(503, problem, "`dingle jobs` shows what runs");
  HttpAnswer answer = json_answer(json_of(job));
  answer.status = 202;
  answer.headers.emplace_back("Location", "/v1/jobs/" + std::to_string(id));
  return answer;
}

namespace {

constexpr const char* kExample =
    R"({"id":7,"kind":"resend letters","what":"all","by":"token night-watch","state":"running",
  "asked":"2026-11-23T10:00:00Z","began":"2026-11-23T10:00:00Z","ended":null,"done":12000,"total":40000,"unit":"letters",
  "rate":3100.5,"seconds_left":9.0,"result":{"resent":12000}})";

const CallRegistration kListJobs(
    {.method = "GET",
     .path = "/v1/jobs",
     .name = "listJobs",
     .text = "Jobs: long work that waits, runs, or has ended; the newest first.",
     .parameters = {{.name = "limit",
                     .type = OptionType::integer,
                     .fallback = "50",
                     .text = "At most so many.",
                     .most = Jobs::kMost}},
     .run = list_jobs,
     .example = R"({"jobs":[],"forgotten":0})",
     .answer = [] {
       return object_of({{"jobs", list_of(job_schema())}, {"forgotten", is_integer()}});
     }});
const CallRegistration kShowJob(
    {.method = "GET",
     .path = "/v1/jobs/{id}",
     .name = "showJob",
     .text = "One job: how far it is, how fast, and what it has done.",
     .parameters = {{.name = "follow",
                     .type = OptionType::boolean,
                     .text = "Each time that it changes, as NDJSON, until it has ended."}},
     .run = show_job,
     .example = kExample,
     .answer = job_schema,
     .other_type = "application/x-ndjson",
     .line = job_schema});
const CallRegistration kActOnJob(
    {.method = "POST",
     .path = "/v1/jobs/{id}",
     .name = "actOnJob",
     .text = "Stops a job where it is, or goes on with one that was stopped or has failed.",
     .body = {{.name = "act",
               .type = OptionType::choice,
               .text = "What is to be done.",
               .required = true,
               .choices = {"stop", "resume"}}},
     .run = act_on_job,
     .example = kExample,
     .answer = job_schema,
     .scope = Scope::operate});

}  // namespace
}  // namespace dingle

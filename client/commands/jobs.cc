// dingle jobs: long work that waits, runs, or has ended: list, follow, stop, go on.
#include <iostream>
#include <memory>

#include "client/connection.h"
#include "client/job.h"
#include "client/table.h"

namespace dingle {
namespace {

int list_jobs(const Client& client, std::size_t limit) {
  const Answer a = call(client, "GET", "/v1/jobs", {{"limit", std::to_string(limit)}});
  if (!a.ok) return kFoundProblems;
  std::vector<Json> rows(a.body["jobs"].begin(), a.body["jobs"].end());
  if (client.output == OutputForm::table) {
    if (rows.empty()) {
      std::cout << "no job was ever started\n";
      return kFine;
    }
    for (Json& job : rows) {
      job["progress"] = progress_of(job);
      if (job.contains("problem")) job["what"] = job["problem"];
      if (job["began"].is_null()) job["began"] = "";
    }
  }
  using Look = Column::Look;
  std::vector<Column> columns{{"id", "JOB", Look::count},     {"kind", "KIND"}, {"state", "STATE"},
                              {"began", "BEGAN", Look::time}, {"by", "BY"},     {"what", "WHAT"}};
  if (client.output == OutputForm::table)
    columns.insert(columns.begin() + 3, {"progress", "PROGRESS"});
  else if (client.output == OutputForm::csv)
    for (const char* name : {"ended", "done", "total", "unit", "problem"}) columns.push_back({name, name});
  print_rows(client, columns, rows);
  if (const auto gone = a.body["forgotten"].get<std::int64_t>();
      gone != 0 && client.output == OutputForm::table)
    std::cout << counted(gone, "older job") << (gone == 1 ? " is" : " are") << " remembered no more\n";
  return kFine;
}

// "resent 20 000"; lists by their items.
std::string result_of(const Json& job) {
  std::string all;
  for (const auto& [name, value] : job["result"].items()) {
    std::string text;
    if (value.is_number_integer())
      text = with_thousands(value.get<std::int64_t>());
    else if (!value.is_array())
      text = json_text(value);
    for (const Json& item : value.is_array() ? value : Json::array())
      text += (text.empty() ? "" : " ") + json_text(item);
    all += (all.empty() ? "" : ", ") + name + " " + text;
  }
  return all;
}

int print_job(const Client& client, const Json& job) {
  if (client.output != OutputForm::table) {
    std::cout << dump(job, client.output == OutputForm::json ? 2 : -1) << "\n";
    return kFine;
  }
  const auto line = [](const char* title, const std::string& text) {
    if (!text.empty())
      std::cout << title << std::string(11 - std::string_view(title).size(), ' ') << text << "\n";
  };
  const auto text = [&](const char* name) {
    return job.contains(name) && job[name].is_string() ? job[name].get<std::string>() : "";
  };
  line("job", dump(job["id"]) + ": " + text("kind") + ", " + text("what"));
  line("state", text("state"));
  line("problem", text("problem"));
  line("progress", progress_of(job));
  line("result", result_of(job));
  line("asked", text("asked") + ", by " + text("by"));
  line("began", text("began"));
  line("ended", text("ended"));
  return kFine;
}

int show_job(const Client& client, const std::string& id) {
  const Answer a = call(client, "GET", "/v1/jobs/" + id);
  return a.ok ? print_job(client, a.body) : kFoundProblems;
}

int act_on_job(const Client& client, const std::string& id, const char* act) {
  const Answer a = call(client, "POST", "/v1/jobs/" + id, {}, true, dump(Json{{"act", act}}));
  if (!a.ok) return kFoundProblems;
  if (client.output != OutputForm::table) return print_job(client, a.body);
  std::cout << "job " << id << " is " << a.body["state"].get<std::string>() << ": " << progress_of(a.body)
            << "\n";
  return kFine;
}

const CommandRegistration jobs_command(
    "jobs", "Shows long work that waits, runs, or has ended; follows it, stops it, goes on with it",
    "dingle jobs", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto ids = std::make_shared<std::vector<std::int64_t>>();
      auto limit = std::make_shared<std::size_t>(50);
      app.option("--limit", *limit, "At most so many").with_default();
      const auto of_one = [&](const char* name, const char* text, const char* example) {
        const Arguments one = app.command(name, text, example);
        one.option("JOB", *ids, "Its number").required().times(1, 1);
        return one;
      };
      const Arguments showing = of_one("show", "Shows one job in full", "dingle jobs show 7");
      of_one("follow", "Follows a job to its end", "dingle jobs follow 7");
      const Arguments stopping = of_one("stop", "Stops a job where it is", "dingle jobs stop 7");
      const Arguments resuming =
          of_one("resume", "Goes on with a job that was stopped, or has failed", "dingle jobs resume 7");
      return [=](Client& client) {
        if (ids->empty()) return list_jobs(client, *limit);
        const std::string one = std::to_string(ids->front());
        if (stopping.given()) return act_on_job(client, one, "stop");
        if (resuming.given()) return act_on_job(client, one, "resume");
        if (showing.given()) return show_job(client, one);
        const Json ended = follow_job(client, ids->front());
        if (!ended.is_object()) return kFoundProblems;
        print_job(client, ended);
        return ended["state"] == "done" ? kFine : kFoundProblems;
      };
    });

}  // namespace
}  // namespace dingle

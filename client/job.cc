#include "client/job.h"

#include <unistd.h>

#include <chrono>
#include <cmath>
#include <iostream>

#include "client/connection.h"
#include "client/table.h"
#include "client/terminal.h"

namespace dingle {

std::string progress_of(const Json& job) {
  const auto whole = [&](const char* name) {
    return with_thousands(static_cast<std::int64_t>(job[name].get<double>() + 0.5));
  };
  std::string text = whole("done") + " of " + whole("total") + " " + job.value("unit", "");
  if (job["rate"].is_number()) text += ", " + whole("rate") + "/s";
  if (job["seconds_left"].is_number() && job["state"] == "running")
    text += ", " + with_thousands(static_cast<std::int64_t>(std::ceil(job["seconds_left"].get<double>()))) +
            " s left";
  return text;
}

bool is_open(const Json& job) {
  return job["state"] == "waiting" || job["state"] == "running" || job["state"] == "stopping";
}

Json follow_job(const Client& client, std::int64_t id) {
  const bool shown = ::isatty(STDERR_FILENO) && client.output == OutputForm::table;
  const auto began = std::chrono::steady_clock::now();
  bool hinted = false;
  Json last;
  const int status =
      stream(client, "/v1/jobs/" + std::to_string(id), {{"follow", "true"}}, [&](const std::string& line) {
        last = parse_json(line);
        if (!shown || !last.is_object() || std::chrono::steady_clock::now() - began < std::chrono::seconds(1))
          return true;
        if (!hinted)
          std::cerr << "job " << id << " goes on if you leave; `dingle jobs stop " << id << "` stops it\n";
        hinted = true;
        show_in_place(last.value("state", "") + ": " + progress_of(last));
        return true;
      });
  if (hinted) show_in_place("");
  if (status != kFine) return nullptr;
  if (last.is_object() && !is_open(last)) return last;
  std::cerr << "dingle: the program stops; job " << id << " goes on when it runs again\n";
  return nullptr;
}

int see_to_its_end(const Client& client, const Json& job, bool no_wait,
                   const std::function<std::string(const Json&)>& told) {
  const bool table = client.output == OutputForm::table;
  const auto print = [&](const Json& j) {
    std::cout << dump(j, client.output == OutputForm::json ? 2 : -1) << "\n";
  };
  const std::int64_t id = job["id"];
  if (no_wait) {
    if (table)
      std::cout << "job " << id << " is begun; `dingle jobs` shows how far it is\n";
    else
      print(job);
    return kFine;
  }
  const Json ended = follow_job(client, id);
  if (!ended.is_object()) return kFoundProblems;
  if (table)
    std::cout << told(ended) << "\n";
  else
    print(ended);
  return tell_if_not_done(ended);
}

void tell_notes(const Json& result) {
  for (const Json& note : result.value("notes", Json::array()))
    std::cerr << "note: " << visible(note.get<std::string>()) << "\n";
}

int tell_if_not_done(const Json& ended) {
  if (ended["state"] == "done") return kFine;
  const auto id = ended["id"].get<std::int64_t>();
  std::cerr << "dingle: job " << id << " "
            << (ended["state"] == "failed" ? "failed: " + ended.value("problem", "") : "was stopped")
            << "\n  = `dingle jobs resume " << id << "` goes on with it\n";
  return kFoundProblems;
}

}  // namespace dingle

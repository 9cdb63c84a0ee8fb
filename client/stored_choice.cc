#include "client/stored_choice.h"

#include "client/connection.h"
#include "client/job.h"

namespace dingle {

void StoredChoiceOptions::add_to(const Arguments& app, const std::string& dry_text) {
  query.add_choice_to(app);
  app.flag("--all", all, "All events that are stored");
  app.flag("--dry", dry, dry_text);
  app.flag("--no-wait", no_wait, "Start the job, and do not wait for its end");
}

int run_with_choice(const Client& client, const StoredChoiceOptions& o, const char* path,
                    const std::function<void(const Json& job)>& print) {
  Json body = Json::object();
  for (const auto& [name, value] : o.query.parameters(client))
    if (name == "index")
      body["index"].push_back(value);
    else
      body[name] = value;
  if (o.all) body["all"] = true;
  if (o.dry) body["dry"] = true;
  const Answer a = call(client, "POST", path, {}, true, dump(body));
  if (!a.ok) return kFoundProblems;
  if (client.output != OutputForm::table || o.no_wait)
    return see_to_its_end(client, a.body, o.no_wait, [](const Json&) { return std::string(); });
  const Json ended = follow_job(client, a.body["id"]);
  if (!ended.is_object()) return kFoundProblems;
  print(ended);
  return tell_if_not_done(ended);
}

}  // namespace dingle

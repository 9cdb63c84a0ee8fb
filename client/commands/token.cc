// dingle token: tokens with names, for those who may do some things and not all.
#include <iostream>
#include <memory>

#include "client/connection.h"
#include "client/table.h"
#include "net/http.h"

namespace dingle {
namespace {

int list(const Client& client) {
  const Answer a = call(client, "GET", "/v1/tokens");
  if (!a.ok) return kFoundProblems;
  std::vector<Json> rows;
  for (Json t : a.body["tokens"]) {
    if (client.output == OutputForm::table || client.output == OutputForm::csv) {
      std::string scopes;
      for (const Json& s : t["scopes"]) scopes += (scopes.empty() ? "" : " ") + s.get<std::string>();
      t["scopes"] = scopes;
    }
    if (client.output == OutputForm::table && t["used"].is_null()) t["used"] = "never";
    rows.push_back(std::move(t));
  }
  if (rows.empty() && client.output == OutputForm::table) {
    std::cout << "there are no tokens but the program's own\n";
    return kFine;
  }
  print_rows(client,
             {{"name", "NAME"},
              {"scopes", "MAY"},
              {"made", "MADE", Column::Look::time},
              {"used", "LAST USED", Column::Look::time}},
             rows);
  return kFine;
}

int add(const Client& client, const std::string& name, const std::vector<std::string>& scopes) {
  const Answer a =
      call(client, "POST", "/v1/tokens", {}, true, dump(Json{{"name", name}, {"scopes", scopes}}));
  if (!a.ok) return kFoundProblems;
  if (client.output != OutputForm::table) {
    std::cout << dump(a.body, client.output == OutputForm::json ? 2 : -1) << "\n";
    return kFine;
  }
  std::cout << a.body["token"].get<std::string>() << "\n";
  std::cerr << "keep it now: only a hash of it stays here\n";
  return kFine;
}

int remove(const Client& client, const std::string& name) {
  const Answer a = call(client, "DELETE", "/v1/tokens/" + percent_encoded(name));
  if (!a.ok) return kFoundProblems;
  std::cout << "removed " << name << "\n";
  return kFine;
}

const CommandRegistration token_command(
    "token", "Shows tokens with names, for those who may do some things and not all; makes and removes them",
    "dingle token add harbour-office --may read", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto name = std::make_shared<std::string>();
      auto scopes = std::make_shared<std::vector<std::string>>();
      app.command("list", "Lists them: what each may, and when it was used last", "dingle token list");
      const Arguments adding = app.command("add", "Makes a token, and prints it",
                                           "dingle token add night-watch --may read,operate");
      adding.option("NAME", *name, "Its name").required();
      adding
          .option("--may", *scopes,
                  "read (status, events, versions), lines (as they came, before pipelines), edit (the "
                  "configuration), operate (letters, indexes)")
          .required()
          .separated_by(',');
      const Arguments removing =
          app.command("remove", "Removes a token; it works no more", "dingle token remove harbour-office");
      removing.option("NAME", *name, "Its name").required();
      return [=](Client& client) {
        if (adding.given()) return add(client, *name, *scopes);
        if (removing.given()) return remove(client, *name);
        return list(client);
      };
    });

}  // namespace
}  // namespace dingle

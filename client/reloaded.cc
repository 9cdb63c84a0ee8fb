#include "client/reloaded.h"

#include <pwd.h>
#include <unistd.h>

#include <iostream>

#include "client/difference.h"
#include "client/table.h"
#include "core/options/findings.h"

namespace dingle {

Json said(const std::string& note) {
  char host[256] = "";
  ::gethostname(host, sizeof host - 1);
  const passwd* user = ::getpwuid(::getuid());
  Json body{{"who", (user ? user->pw_name : std::to_string(::getuid())) + std::string("@") + host}};
  if (!note.empty()) body["note"] = note;
  return body;
}

int tell_reloaded(const Client& client, const Answer& a) {
  if (a.status == 0) return kFoundProblems;
  if (client.output != OutputForm::table) {
    std::cout << dump(a.body, client.output == OutputForm::json ? 2 : -1) << "\n";
    return a.ok ? kFine : kFoundProblems;
  }
  const std::string file = a.body.value("file", "");
  std::string source;
  if (a.body.contains("findings") && !a.body["findings"].empty()) read_input(file, source);
  if (a.body.contains("findings"))
    for (const Json& f : a.body["findings"])
      std::cout << render({f["severity"] == "error",
                           {f["line"].get<std::size_t>(), f["column"].get<std::size_t>()},
                           f["length"].get<std::size_t>(),
                           f["message"].get<std::string>(),
                           f["hint"].get<std::string>()},
                          file, source, painter(client), client.width)
                << "\n";
  if (a.ok) {
    std::cout << paint(client, "1;32", "reloaded: ") << file << " runs as configuration "
              << a.body["configuration"].get<std::string>() << ", version " << a.body["version"] << "\n";
    return kFine;
  }
  const Json error = a.body.is_object() ? a.body : Json::object();
  std::cerr << "dingle: not reloaded: "
            << error.value("detail", "the server answered " + std::to_string(a.status)) << "\n";
  if (error.contains("hint")) std::cerr << "  = " << error["hint"].get<std::string>() << "\n";
  if (a.body.is_object() && a.body.contains("on_disk")) {
    const Labelled running{"what runs", a.body["running"]};
    std::cout << "what was changed in the file:\n";
    print_difference(client, running, {"the file", a.body["on_disk"]});
    std::cout << "what you want:\n";
    print_difference(client, running, {"the version", a.body["wanted"]});
  }
  if (a.body.is_object() && a.body.contains("text")) std::cout << a.body["text"].get<std::string>();
  return kFoundProblems;
}

}  // namespace dingle

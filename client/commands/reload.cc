// dingle reload: gives the configuration file to the running dingled again.
#include <iostream>

#include "client/connection.h"
#include "client/table.h"
#include "core/options/findings.h"

namespace dingle {
namespace {

const CommandRegistration reload_command(
    "reload", "Makes dingled read its configuration again; it takes it only if it is sound", "dingle reload",
    true, [](const Arguments&) -> std::function<int(Client&)> {
      return [](Client& client) {
        Answer a = call(client, "POST", "/v1/reload", {}, false);
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
        if (a.ok)
          std::cout << paint(client, "1;32", "reloaded: ") << file << " runs as configuration "
                    << a.body["configuration"].get<std::string>() << "\n";
        else
          std::cerr << "dingle: not reloaded: "
                    << (a.body.is_object() && a.body.contains("error")
                            ? a.body["error"].value("message", "")
                            : "the server answered " + std::to_string(a.status))
                    << "\n";
        return a.ok ? kFine : kFoundProblems;
      };
    });

}  // namespace
}  // namespace dingle

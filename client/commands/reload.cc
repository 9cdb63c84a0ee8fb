// dingle reload: gives the configuration file to the running dingled again.
#include "client/reloaded.h"

namespace dingle {
namespace {

const CommandRegistration reload_command(
    "reload", "Makes dingled read its configuration again; it takes it only if it is sound",
    "dingle reload --note 'a second berth'", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto note = std::make_shared<std::string>();
      app.option("--note", *note, "What for; kept with the version (dingle versions)");
      return [note](Client& client) {
        return tell_reloaded(client, call(client, "POST", "/v1/reload", {}, false, dump(said(*note))));
      };
    });

}  // namespace
}  // namespace dingle

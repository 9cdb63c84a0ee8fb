// dingle schema: the JSON Schema of the configuration.
#include <iostream>

#include "agent/configuration.h"
#include "client/command.h"

namespace dingle {
namespace {

const CommandRegistration schema_command("schema", "Prints the JSON Schema of the configuration, for editors",
                                         "dingle schema > dingle.schema.json", false,
                                         [](const Arguments& app) -> std::function<int(Client&)> {
                                           auto reference = std::make_shared<bool>(false);
                                           app.flag("--reference", *reference,
                                                    "Print the reference page instead");
                                           return [reference](Client&) {
                                             std::cout << (*reference ? configuration_reference()
                                                                      : configuration_schema());
                                             return kFine;
                                           };
                                         });

}  // namespace
}  // namespace dingle

// dingle check: reads a configuration without running it.
#include <iostream>

#include "agent/configuration.h"
#include "client/table.h"

namespace dingle {
namespace {

struct CheckOptions {
  std::string file = "/etc/dingle/dingle.yaml";
};

int run_check(const Client& client, const std::string& file) {
  std::string text;
  if (!read_input(file, text)) return kFoundProblems;
  Findings findings(text);
  auto configuration = read_configuration(text, findings);
  if (client.output != OutputForm::table) {
    std::vector<Json> rows;
    for (const Finding& f : findings.all())
      rows.push_back({{"file", file},
                      {"line", f.place.line},
                      {"column", f.place.column},
                      {"length", f.length},
                      {"severity", f.is_error ? "error" : "warning"},
                      {"message", f.message},
                      {"hint", f.hint}});
    print_rows(client,
               {{"file", ""},
                {"line", ""},
                {"column", ""},
                {"length", ""},
                {"severity", ""},
                {"message", ""},
                {"hint", ""}},
               rows);
    return configuration ? kFine : kFoundProblems;
  }
  for (const Finding& f : findings.all())
    std::cout << render(f, file, text, painter(client), client.width) << "\n";
  const std::size_t errors = findings.errors(), warnings = findings.all().size() - errors;
  auto plural = [](std::size_t n, const std::string& word) {
    return std::to_string(n) + " " + word + (n == 1 ? "" : "s");
  };
  if (configuration) {
    std::cout << paint(client, "1;32", "sound: ") << file << ": "
              << plural(configuration->sources.size(), "source") << ", "
              << plural(configuration->pipelines.size(), "pipeline") << ", "
              << plural(configuration->destinations.size(), "destination")
              << (warnings ? "; " + plural(warnings, "warning") : "") << "\n";
    return kFine;
  }
  std::cout << paint(client, "1;31", plural(errors, "error"))
            << (warnings ? ", " + plural(warnings, "warning") : "") << " in " << file << "\n";
  return kFoundProblems;
}

const CommandRegistration check_command(
    "check", "Reads a configuration and names every mistake with its place; needs no running server",
    "dingle check dingle.yaml", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<CheckOptions>();
      app.option("FILE", o->file, "The configuration; - for standard input").with_default();
      return [o](Client& client) { return run_check(client, o->file); };
    });

}  // namespace
}  // namespace dingle

// dingle: the command-line client.
#include <sys/ioctl.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <iostream>
#include <optional>
#include <sstream>

#include "client/command.h"
#include "client/terminal.h"

int main(int argc, char** argv) {
  using namespace dingle;
  CLI::App app{"dingle: checks configurations, tries templates, and asks a running dingled.", "dingle"};
  app.require_subcommand(1);
  app.set_version_flag("--version", "dingle 0.1.0");
  Client client;
  client.color = ::isatty(STDOUT_FILENO) == 1 && std::getenv("NO_COLOR") == nullptr;
  winsize size{};
  if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 20)
    client.width = size.ws_col;
  else if (const char* columns = std::getenv("COLUMNS"); columns && std::atoi(columns) > 20)
    client.width = static_cast<std::size_t>(std::atoi(columns));
  const char* data = std::getenv("DINGLE_DATA");
  client.data = data ? data : "/var/lib/dingle";
  app.add_option("--data", client.data,
                 "The data folder of the running dingled, for its address and token (or DINGLE_DATA)")
      ->capture_default_str();
  app.add_option("--server", client.server, "Address and port of dingled, instead of the data folder's");
  app.add_option("--token", client.token,
                 "A file with a token, instead of the data folder's (or DINGLE_TOKEN)")
      ->envname("DINGLE_TOKEN");
  std::string color = "auto";
  app.add_option("--color", color, "When to colour: auto, always, never")
      ->check(CLI::IsMember({"auto", "always", "never"}));
  const std::map<std::string, OutputForm> forms{{"table", OutputForm::table},
                                                {"ndjson", OutputForm::ndjson},
                                                {"json", OutputForm::json},
                                                {"csv", OutputForm::csv}};
  std::vector<std::pair<CLI::App*, std::function<int(Client&)>>> runs;
  for (const CommandSpec& spec : commands()) {
    CLI::App* sub = app.add_subcommand(spec.name, spec.text);
    sub->footer(std::string("Example:\n  ") + spec.example);
    if (spec.has_output)
      sub->add_option_function<std::string>(
             "--output,-o", [&client, &forms](const std::string& form) { client.output = forms.at(form); },
             "table, ndjson, json or csv")
          ->check(CLI::IsMember(&forms).description(""))
          ->type_name("FORM");
    sub->fallthrough();
    runs.emplace_back(sub, spec.add(Arguments(sub)));
  }
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? kFine : kUsage;
  }
  if (color != "auto") client.color = color == "always";
  if (client.output != OutputForm::table) client.color = false;
  // What programs read is exact, but never raw on a terminal.
  std::optional<VisibleOutput> out;
  if (client.output == OutputForm::table || ::isatty(STDOUT_FILENO) == 1) out.emplace(std::cout);
  const VisibleOutput errors(std::cerr);
  for (auto& [sub, run] : runs) try {
      if (sub->parsed()) return run(client);
    } catch (const std::exception& error) {  // whatever answered may be no dingled
      std::cerr << "dingle: the answer cannot be understood: " << error.what()
                << "\n  = is it a dingled of this version that answers?\n";
      return kFoundProblems;
    }
  return kUsage;
}

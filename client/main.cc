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
#include "core/nearest.h"

namespace {

// For a command, or an option of it, that is none.
std::string nearest(const CLI::App& app, int argc, char** argv) {
  const CLI::App* command = nullptr;
  std::vector<std::string> names;
  for (const CLI::App* sub : app.get_subcommands([](const CLI::App*) { return true; }))
    names.push_back(sub->get_name());
  for (int i = 1; i < argc; ++i) {
    const std::string word = argv[i];
    if (word.empty()) continue;
    if (word[0] != '-') {
      if (command != nullptr) continue;
      for (const CLI::App* sub : app.get_subcommands([](const CLI::App*) { return true; }))
        if (sub->get_name() == word) command = sub;
      if (command == nullptr) return dingle::did_you_mean(word, names);
      continue;
    }
    std::vector<std::string> options;
    for (const CLI::App* of : {&app, command})
      if (of != nullptr)
        for (const CLI::Option* o : of->get_options())
          for (const std::string& name : o->get_lnames()) options.push_back("--" + name);
    const std::string name = word.substr(0, word.find('='));
    for (const char* form : {"--table", "--json", "--ndjson", "--csv"})
      if (word == form && std::find(options.begin(), options.end(), word) == options.end())
        return "did you mean `-o " + word.substr(2) + "`?";
    if (word.starts_with("--") && std::find(options.begin(), options.end(), name) == options.end())
      return dingle::did_you_mean(name, options);
  }
  return "";
}

}  // namespace

int main(int argc, char** argv) {
  using namespace dingle;
  CLI::App app{"dingle: checks configurations, tries templates, and asks a running dingled.", "dingle"};
  app.require_subcommand(1);
  app.footer(
      "Exit status: 0 all is well, 1 something is wrong (and was said), 2 the command was not understood.");
  app.set_version_flag("--version", "dingle 0.1.0");
  Client client;
  client.color = ::isatty(STDOUT_FILENO) == 1 && std::getenv("NO_COLOR") == nullptr;
  winsize size{};
  if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 20)
    client.width = size.ws_col;
  else if (const char* columns = std::getenv("COLUMNS"); columns && std::atoi(columns) > 20)
    client.width = static_cast<std::size_t>(std::atoi(columns));
  else
    client.cuts = false;  // a file or another program reads it
  const char* data = std::getenv("DINGLE_DATA");
  client.data = data ? data : "/var/lib/dingle";
  app.add_option("--data", client.data,
                 "The data folder of the running dingled, for its address and token (or DINGLE_DATA)")
      ->capture_default_str();
  app.add_option("--server", client.server, "Address and port of dingled, instead of the data folder's");
  app.add_option("--token", client.token,
                 "A file with a token, instead of the data folder's (or DINGLE_TOKEN)")
      ->envname("DINGLE_TOKEN");
  std::string zone;
  app.add_option(
      "--zone", zone,
      "The zone of times that are shown, and of those that name none: Europe/Oslo, +02:00, UTC (or TZ)");
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
    const int status = app.exit(error) == 0 ? kFine : kUsage;
    if (status == kUsage)
      if (const std::string near = nearest(app, argc, argv); !near.empty())
        std::cerr << "  = " << near << "\n";
    return status;
  }
  const bool asked = !zone.empty();
  if (const char* tz = std::getenv("TZ"); !asked && tz != nullptr) zone = tz[0] == ':' ? tz + 1 : tz;
  if (!zone.empty()) {
    auto found = Zone::named(zone);
    if (!found && asked) {
      std::cerr << "dingle: " << found.problem().message << "\n  = " << found.problem().hint << "\n";
      return kUsage;
    }
    if (found) client.zone = *found;  // TZ may have forms of its own: then it is UTC
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

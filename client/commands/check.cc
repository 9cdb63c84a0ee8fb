// dingle check: reads a configuration without running it.
#include <algorithm>
#include <iostream>
#include <set>

#include "agent/configuration.h"
#include "agent/configuration_hiding.h"
#include "agent/secret.h"
#include "client/samples.h"
#include "client/table.h"

namespace dingle {
namespace {

struct CheckOptions {
  std::string file = "/etc/dingle/dingle.yaml", samples;
  bool write = false, without_secrets = false;
};

// Where a word stands in the text first.
Place place_of(std::string_view word, std::string_view text) {
  const std::size_t at = text.find(word);
  if (at == std::string_view::npos) return {1, 1};
  const std::string_view before = text.substr(0, at);
  const auto line = static_cast<std::size_t>(std::count(before.begin(), before.end(), '\n'));
  return {line + 1, at - (line == 0 ? 0 : before.rfind('\n') + 1) + 1};
}

// What cannot be read here of the secrets that the configuration names: without it the first event would tell.
void look_for_secrets(const Configuration& c, const std::string& text, Findings& findings) {
  std::set<std::string> places;
  const auto add = [&](const Options& o) {
    for (const std::string& place : o.secrets()) places.insert(place);
  };
  add(c.server);
  for (const SourceSettings& s : c.sources) add(s.options);
  for (const DestinationSettings& d : c.destinations) add(d.options);
  for (const std::string& place : places)
    if (const auto secret = read_secret_at(place); !secret) {
      const std::string name = place.substr(place.find(':') + 1);
      findings.warning(place_of(name, text), name.size(), secret.problem().message,
                       "give it to whoever runs dingled; --without-secrets does not look");
    }
  if (const std::string problem = missing_key(c); !problem.empty())
    findings.warning(Place{1, 1}, 1, problem,
                     "dingled does not start without it; --without-secrets does not look");
}

void print_samples(const Client& client, const CheckOptions& o, const SampleResults& samples) {
  for (const auto& d : samples.differences)
    std::cout << d.file << (d.line == 0 ? "" : ":" + std::to_string(d.line)) << ": " << d.text << "\n";
  const auto count = [](std::size_t n, const char* one) {
    return counted(static_cast<std::int64_t>(n), one);
  };
  const std::string of = count(samples.samples, "sample") + ", " + count(samples.events, "event");
  if (samples.differences.empty())
    std::cout << paint(client, "1;32", o.write ? "written: " : "as expected: ") << of << "\n";
  else
    std::cout << paint(client, "1;31", count(samples.differences.size() + samples.more, "difference"))
              << " in " << of << "\n";
}

int run_check(const Client& client, const CheckOptions& o) {
  const std::string& file = o.file;
  if (o.write && o.samples.empty()) {
    std::cerr << "dingle: --write writes what comes of samples: give their folder with --samples\n";
    return kUsage;
  }
  std::string text;
  if (!read_input(file, text)) return kFoundProblems;
  Findings findings(text);
  auto configuration = read_configuration(text, findings);
  if (configuration && !o.without_secrets) look_for_secrets(*configuration, text, findings);
  SampleResults samples;
  if (configuration && !o.samples.empty()) samples = check_samples(*configuration, o.samples, o.write);
  const bool sound = configuration && samples.differences.empty();
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
    for (const auto& d : samples.differences)
      rows.push_back({{"file", d.file},
                      {"line", d.line},
                      {"column", 1},
                      {"length", 1},
                      {"severity", "error"},
                      {"message", d.text},
                      {"hint", ""}});
    print_rows(client,
               {{"file", ""},
                {"line", ""},
                {"column", ""},
                {"length", ""},
                {"severity", ""},
                {"message", ""},
                {"hint", ""}},
               rows);
    return sound ? kFine : kFoundProblems;
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
    if (!o.samples.empty()) print_samples(client, o, samples);
    return sound ? kFine : kFoundProblems;
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
      app.option("--samples", o->samples,
                 "Also rehearse the samples in this folder (PIPELINE/NAME.log), and compare what comes of "
                 "them with what is "
                 "expected (PIPELINE/NAME.ndjson)");
      app.flag("--write", o->write, "Write what comes of the samples, as what is expected from now on");
      app.flag("--without-secrets", o->without_secrets,
               "Do not look whether the secrets that it names can be read here");
      return [o](Client& client) { return run_check(client, *o); };
    });

}  // namespace
}  // namespace dingle

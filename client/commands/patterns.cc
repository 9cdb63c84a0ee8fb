// dingle patterns: the named patterns, with an example each.
#include <iostream>

#include "agent/configuration.h"
#include "client/table.h"

namespace dingle {
namespace {

const CommandRegistration patterns_command(
    "patterns", "Lists the named patterns with an example each", "dingle patterns time", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      struct PatternsOptions {
        std::string part, configuration;
        bool reference = false;
      };
      auto o = std::make_shared<PatternsOptions>();
      app.option("PART", o->part, "Only those with this in their name");
      app.option("--config", o->configuration, "Also those of this configuration");
      app.flag("--reference", o->reference, "Print the reference page of the built-in patterns");
      return [o](Client& client) {
        if (o->reference) {
          std::cout << pattern_reference();
          return kFine;
        }
        PatternLibrary own;
        const PatternLibrary* library = &own;
        std::shared_ptr<const Configuration> configuration;
        if (!o->configuration.empty()) {
          std::string text;
          if (!read_input(o->configuration, text)) return kFoundProblems;
          Findings findings(text);
          configuration = read_configuration(text, findings);
          if (!configuration) {
            for (const Finding& f : findings.all())
              std::cerr << render(f, o->configuration, text, painter(client), client.width);
            return kFoundProblems;
          }
          library = configuration->patterns.get();
        }
        std::vector<Json> rows;
        for (const Pattern* p : library->in_order()) {
          if (p->name.find(o->part) == std::string::npos) continue;
          const char* form = p->form == PatternForm::lexeme   ? "typed"
                             : p->form == PatternForm::text   ? "text"
                             : p->form == PatternForm::regex  ? "regex"
                             : p->form == PatternForm::fields ? "fields"
                                                              : "template";
          rows.push_back({{"name", p->name},
                          {"type", kind_name(p->kind)},
                          {"form", form},
                          {"example", p->examples.empty() ? p->source : p->examples[0]},
                          {"meaning", p->description}});
        }
        print_rows(client,
                   {{"name", "PATTERN"},
                    {"type", "TYPE"},
                    {"form", "FORM"},
                    {"example", "EXAMPLE"},
                    {"meaning", "MATCHES"}},
                   rows);
        return rows.empty() ? kFoundProblems : kFine;
      };
    });

}  // namespace
}  // namespace dingle

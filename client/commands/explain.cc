// dingle explain: what a template was compiled to.
#include <iostream>

#include "agent/configuration.h"
#include "client/table.h"
#include "core/template/template.h"

namespace dingle {
namespace {

int run_explain(const Client& client, const std::string& text, const std::string& file) {
  PatternLibrary own;
  const PatternLibrary* library = &own;
  std::shared_ptr<const Configuration> configuration;
  if (!file.empty()) {
    std::string yaml;
    if (!read_input(file, yaml)) return kFoundProblems;
    Findings findings(yaml);
    configuration = read_configuration(yaml, findings);
    for (const Finding& f : findings.all()) std::cerr << render(f, file, yaml, painter(client), client.width);
    if (!configuration) return kFoundProblems;
    library = configuration->patterns.get();
  }
  std::vector<Problem> problems;
  auto t = Template::compile(text, *library, {}, problems);
  for (const Problem& p : problems)
    std::cerr << render({true, {1, p.offset + 1}, std::max<std::size_t>(1, p.length), p.message, p.hint},
                        "template", text, painter(client), client.width);
  if (!t) return kFoundProblems;
  std::vector<Json> rows;
  std::size_t engine = 0;
  for (const Described& d : t->describe()) {
    engine += d.how == "regex engine";
    rows.push_back(
        {{"element", std::string(2 * d.depth, ' ') + one_line(d.source)}, {"how", d.how}, {"why", d.why}});
  }
  print_rows(client, {{"element", "ELEMENT"}, {"how", "MATCHED BY"}, {"why", "WHAT IT TAKES"}}, rows);
  if (client.output != OutputForm::table) return kFine;
  std::cout << "\n"
            << (engine == 0 ? paint(client, "1;32", "no part needs the regex engine")
                            : paint(client, "1;33",
                                    std::to_string(engine) + (engine == 1 ? " part needs" : " parts need") +
                                        " the regex engine"))
            << "; this processor runs it with " << runners()[0].name << " instructions\n";
  return kFine;
}

const CommandRegistration explain_command(
    "explain", "Shows what a template is compiled to, and which parts need the regex engine",
    "dingle explain '{client.address:ip} {:word} [{at:clf_time}] {request:/GET .*/}'", true,
    [](const Arguments& app) -> std::function<int(Client&)> {
      auto text = std::make_shared<std::string>(), file = std::make_shared<std::string>();
      app.option("TEMPLATE", *text, "The template").required();
      app.option("--config", *file, "Take named patterns from this configuration");
      return [text, file](Client& client) { return run_explain(client, *text, *file); };
    });

}  // namespace
}  // namespace dingle

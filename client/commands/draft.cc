// dingle draft: proposes templates for sample lines.
#include <fmt/format.h>

#include <iostream>

#include "agent/trial.h"
#include "client/table.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

int run_draft(const Client& client, const std::string& file) {
  std::string input;
  if (!read_input(file, input)) return kFoundProblems;
  std::vector<std::string_view> lines;
  for (std::size_t at = 0; at < input.size();) {
    const std::size_t end = std::min(input.find('\n', at), input.size());
    std::string_view line = std::string_view(input).substr(at, end - at);
    if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
    lines.push_back(line);
    at = end + 1;
  }
  const Draft draft = draft_templates(lines, system_now());
  if (draft.lines == 0) {
    std::cerr << "error: there are no lines in " << (file == "-" ? "standard input" : file) << "\n";
    return kFoundProblems;
  }
  if (client.output != OutputForm::table) {
    if (client.output == OutputForm::csv) {
      std::vector<Json> rows;
      const Json all = json_of(draft);
      for (const Json& t : all["templates"]) rows.push_back(t);
      print_rows(client, {{"template", ""}, {"lines", ""}, {"share", ""}, {"layout", ""}, {"example", ""}},
                 rows);
    } else {
      std::cout << dump(json_of(draft), client.output == OutputForm::json ? 2 : -1) << "\n";
    }
    return draft.unexplained == 0 ? kFine : kFoundProblems;
  }
  const auto percent = [&](std::size_t n) {
    return fmt::format("{:5.1f} %", 100.0 * static_cast<double>(n) / static_cast<double>(draft.lines));
  };
  std::cout << paint(client, "1",
                     counted(static_cast<std::int64_t>(draft.lines), draft.joined ? "event" : "line") + ", " +
                         counted(static_cast<std::int64_t>(draft.templates.size()), "template"))
            << "\n\n";
  if (draft.json)
    std::cout << (draft.unexplained == 0
                      ? "every line is a JSON object"
                      : "all lines but " + with_thousands(static_cast<std::int64_t>(draft.unexplained)) +
                            " are JSON objects")
              << ": the step `json` takes them apart\n\n";
  for (const std::string& head : draft.heads)
    std::cout << "    "
              << coloured_template(client, one_line(head) + "{message}",
                                   std::max<std::size_t>(40, client.width - 4), 4)
              << "\n";
  if (!draft.heads.empty())
    std::cout << "    "
              << paint(client, "2",
                       "begins many of them; these take `message` apart then, where they begin with …:")
              << "\n\n";
  for (std::size_t i = 0; i < draft.templates.size(); ++i) {
    const DraftTemplate& t = draft.templates[i];
    std::cout << paint(client, "1", fmt::format("{:>2}", i + 1)) << "  " << percent(t.lines) << "  "
              << coloured_template(client, (t.head ? "…" : "") + one_line(t.text.substr(t.head)),
                                   std::max<std::size_t>(40, client.width - 14), 13)
              << "\n    " << std::string(9, ' ')
              << paint(
                     client, "2",
                     cut_to_width((t.layout.empty() ? "" : t.layout + ": ") + one_line(valid_utf8(t.example)),
                                  std::max<std::size_t>(40, client.width - 13)))
              << "\n";
  }
  if (!draft.picks.empty()) {
    std::cout << "\n    " << paint(client, "2", "picked from the text of `message`, wherever they stand:")
              << "\n";
    for (const DraftTemplate& t : draft.picks)
      std::cout << "    " << percent(t.lines) << "  "
                << coloured_template(client, one_line(t.text), std::max<std::size_t>(40, client.width - 14),
                                     13)
                << "\n";
  }
  if (draft.unexplained != 0) {
    std::cout << "\n"
              << paint(client, "1;33", "    " + percent(draft.unexplained) + "  not explained") << "\n";
    for (std::size_t i = 0; i < std::min<std::size_t>(3, draft.unexplained_examples.size()); ++i)
      std::cout << std::string(13, ' ')
                << cut_to_width(one_line(valid_utf8(draft.unexplained_examples[i])),
                                std::max<std::size_t>(40, client.width - 13))
                << "\n";
  }
  for (const std::string& note : draft.notes)
    std::cout << "\n" << paint(client, "33", "note: ") << note << "\n";
  std::cout << "\n" << paint(client, "1", "to paste into a pipeline:") << "\n" << draft.yaml();
  return draft.unexplained == 0 ? kFine : kFoundProblems;
}

const CommandRegistration draft_command(
    "draft", "Proposes templates for sample lines, grouped by shape, ready to be pasted",
    "dingle draft demo/samples/berthing.log", true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto file = std::make_shared<std::string>("-");
      app.option("FILE", *file, "The lines; - for standard input").with_default();
      return [file](Client& client) { return run_draft(client, *file); };
    });

}  // namespace
}  // namespace dingle

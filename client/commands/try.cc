// dingle try: a template on lines, without a server.
#include <iostream>

#include "agent/configuration.h"
#include "client/table.h"
#include "core/json_text.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

struct TryOptions {
  std::string text, file = "-", configuration;
  std::size_t limit = 0;
};

// The colours of fields, in turn.
constexpr const char* kColors[] = {"36", "33", "32", "35", "94", "96", "93", "92", "95", "91"};

const char* color_of(std::size_t slot) { return kColors[slot % std::size(kColors)]; }

// The line with each field's text in the field's colour.
std::string coloured_line(const Client& client, std::string_view line, const Template& t,
                          const MatchContext& context) {
  if (!client.color) return one_line(valid_utf8(line));
  std::vector<int> owner(line.size(), -1);
  const auto places = t.places(line, context);
  for (std::size_t i = 0; i < places.size(); ++i) {
    auto [from, size] = places[i];
    for (std::size_t k = from; k < from + size && k < line.size(); ++k)
      if (owner[k] < 0) owner[k] = static_cast<int>(i);
  }
  std::string out;
  for (std::size_t i = 0; i < line.size();) {
    std::size_t end = i;
    while (end < line.size() && owner[end] == owner[i]) ++end;
    std::string piece = one_line(valid_utf8(line.substr(i, end - i)));
    out += owner[i] < 0 ? piece : paint(client, color_of(static_cast<std::size_t>(owner[i])), piece);
    i = end;
  }
  return out;
}

void print_match(const Client& client, std::size_t number, std::string_view line, const Template& t,
                 const std::vector<Value>& values, const MatchContext& context) {
  std::cout << paint(client, "1;32", "line " + std::to_string(number) + " matches") << "\n  "
            << coloured_line(client, line, t, context) << "\n";
  std::size_t width = 0;
  for (const Slot& slot : t.slots()) width = std::max(width, slot.name.size());
  for (std::size_t i = 0; i < t.slots().size(); ++i) {
    const Slot& slot = t.slots()[i];
    const std::string name = slot.name + std::string(width - slot.name.size(), ' ');
    std::string kind(kind_name(values[i].kind()));
    kind.resize(9, ' ');
    std::cout << "    " << paint(client, color_of(i), name) << "  " << paint(client, "2", kind) << "  "
              << one_line(valid_utf8(values[i].to_string())) << "\n";
  }
}

void print_mismatch(const Client& client, std::size_t number, std::string_view line, const Mismatch& m) {
  std::cout << paint(client, "1;31", "line " + std::to_string(number) + " does not match") << "\n";
  constexpr std::size_t kBefore = 70, kAfter = 50;  // characters shown around the place
  std::string before = one_line(valid_utf8(line.substr(0, m.offset))),
              after = one_line(valid_utf8(line.substr(m.offset)));
  if (display_width(before) > kBefore) {
    std::size_t from = before.size() - kBefore;
    while (from < before.size() && (static_cast<unsigned char>(before[from]) & 0xC0) == 0x80) ++from;
    before = "…" + before.substr(from);
  }
  std::cout << "  " << before << paint(client, "1;31", cut_to_width(after, kAfter)) << "\n  "
            << std::string(display_width(before), ' ') << paint(client, "1;31", "^") << " " << m.sentence()
            << "\n";
  if (m.so_far.empty()) return;
  std::cout << "    before it: ";
  for (std::size_t i = 0; i < m.so_far.size(); ++i)
    std::cout << (i ? ", " : "") << m.so_far[i].first << " = "
              << cut_to_width(one_line(valid_utf8(m.so_far[i].second.to_string())), 30);
  std::cout << "\n";
}

Json row_of(std::size_t number, std::string_view line, const Template& t, const std::vector<Value>& values) {
  Json row{{"line", number}, {"matched", true}, {"text", valid_utf8(line)}, {"fields", Json::object()}};
  for (std::size_t i = 0; i < t.slots().size(); ++i) {
    if (values[i].absent()) continue;
    std::string json;
    values[i].append_json(json);
    row["fields"][t.slots()[i].name] = Json::parse(json, nullptr, false);
  }
  return row;
}

int run(const Client& client, const TryOptions& o) {
  PatternLibrary own;
  const PatternLibrary* library = &own;
  std::shared_ptr<const Configuration> configuration;
  if (!o.configuration.empty()) {
    std::string text;
    if (!read_input(o.configuration, text)) return kFoundProblems;
    Findings findings(text);
    configuration = read_configuration(text, findings);
    if (!configuration) {
      for (const Finding& f : findings.all()) std::cerr << render(f, o.configuration, text, client.color);
      return kFoundProblems;
    }
    library = configuration->patterns.get();
  }
  std::vector<Problem> problems;
  auto t = Template::compile(o.text, *library, {}, problems);
  for (const Problem& p : problems)
    std::cerr << render({true, {1, p.offset + 1}, std::max<std::size_t>(1, p.length), p.message, p.hint},
                        "template", o.text, client.color);
  if (!t) return kFoundProblems;
  std::string input;
  if (!read_input(o.file, input)) return kFoundProblems;
  if (!input.empty() && input.back() != '\n') input += '\n';
  std::size_t number = 0, matched = 0, unmatched = 0;
  std::vector<Json> rows;
  std::vector<Value> values(t->value_count());
  for (std::size_t at = 0; at < input.size() && (o.limit == 0 || matched + unmatched < o.limit);) {
    const std::size_t end = input.find('\n', at);
    std::string_view line = std::string_view(input).substr(at, end - at);
    at = end + 1;
    ++number;
    if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
    if (line.empty()) continue;
    Arena arena;
    const MatchContext context{&arena, system_now()};
    const bool ok = t->match(line, context, values.data());
    ++(ok ? matched : unmatched);
    if (client.output == OutputForm::table) {
      if (ok)
        print_match(client, number, line, *t, values, context);
      else
        print_mismatch(client, number, line, t->explain(line, context));
    } else if (ok) {
      rows.push_back(row_of(number, line, *t, values));
    } else {
      const Mismatch m = t->explain(line, context);
      rows.push_back({{"line", number},
                      {"matched", false},
                      {"text", valid_utf8(line)},
                      {"column", m.offset + 1},
                      {"expected", m.expected},
                      {"found", valid_utf8(m.found)}});
    }
  }
  if (client.output == OutputForm::table)
    std::cout << paint(client, "1",
                       std::to_string(matched) + " matched, " + std::to_string(unmatched) + " did not")
              << "\n";
  else
    print_rows(client,
               {{"line", ""},
                {"matched", ""},
                {"text", ""},
                {"fields", ""},
                {"column", ""},
                {"expected", ""},
                {"found", ""}},
               rows);
  return unmatched == 0 ? kFine : kFoundProblems;
}

const CommandRegistration registration(
    "try", "Tries a template on lines: the fields of each, or where it fails and what was expected",
    "dingle try '{client.address:ip} {:word} {user:word} [{at:clf_time}] {message}' "
    "demo/samples/ticket-gate.log --limit 3",
    true, [](CLI::App& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<TryOptions>();
      app.add_option("TEMPLATE", o->text, "The template")->required();
      app.add_option("FILE", o->file, "The lines; - for standard input")->capture_default_str();
      app.add_option("--config", o->configuration, "Take named patterns from this configuration");
      app.add_option("--limit", o->limit, "Only so many lines");
      return [o](Client& client) { return run(client, *o); };
    });

}  // namespace
}  // namespace dingle

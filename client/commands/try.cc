// dingle try: templates on lines, without a server (but for --source).
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <chrono>
#include <iostream>
#include <thread>

#include "agent/configuration.h"
#include "agent/trial.h"
#include "client/connection.h"
#include "client/table.h"
#include "client/terminal.h"
#include "core/json_text.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

struct TryOptions {
  std::vector<std::string> given;  // TEMPLATE FILE, or only FILE when the templates come from a file
  std::vector<std::string> more;   // further templates
  std::string templates_file, configuration, source;
  std::size_t limit = 0, newest = 300, show = 0;
  bool open_end = false, watch = false, summary = false;
  std::string file() const {
    const std::size_t at = templates_file.empty() ? 1 : 0;
    return given.size() > at ? given[at] : "-";
  }
};

// The line with each field's text in the field's colour.
std::string coloured_line(const Client& client, std::string_view line, const Template& t) {
  if (!client.color) return one_line(valid_utf8(line));
  std::vector<int> owner(line.size(), -1);
  Arena arena;
  const auto places = t.places(line, {&arena, system_now()});
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
    out += owner[i] < 0 ? piece : paint(client, field_color(static_cast<std::size_t>(owner[i])), piece);
    i = end;
  }
  return out;
}

void print_match(const Client& client, const TriedLine& line, const TemplateSet& set) {
  const Template& t = set[static_cast<std::size_t>(line.which)];
  std::cout << paint(client, "1;32", "line " + std::to_string(line.number) + " matches")
            << (set.size() > 1 ? paint(client, "2", " template " + std::to_string(line.which + 1)) : "")
            << "\n  " << coloured_line(client, line.text, t) << "\n";
  std::size_t width = 0;
  for (const auto& [field, value] : line.fields) width = std::max(width, display_width(field));
  for (const auto& [field, value] : line.fields) {
    std::size_t slot = t.slots().size();
    for (std::size_t i = 0; i < t.slots().size(); ++i)
      if (t.slots()[i].name == field) slot = i;
    const std::string name = field + std::string(width - display_width(field), ' ');
    std::string kind(kind_name(value.kind()));
    kind.resize(9, ' ');
    std::cout << "    " << paint(client, field_color(slot), name) << "  " << paint(client, "2", kind) << "  "
              << one_line(valid_utf8(value.to_string())) << "\n";
  }
}

// Lines that fail in the same way are shown once.
struct Failure {
  TriedLine line;
  std::vector<std::size_t> others;  // numbers of the further ones
  std::size_t count = 1;
  bool same(const TriedLine& other) const {
    return line.nearest == other.nearest && line.mismatch.expected == other.mismatch.expected &&
           line.mismatch.detail == other.mismatch.detail && line.advice.sentence() == other.advice.sentence();
  }
};

void print_mismatch(const Client& client, const Failure& failure, const TemplateSet& set) {
  const TriedLine& line = failure.line;
  const Mismatch& m = line.mismatch;
  std::cout << paint(client, "1;31", "line " + std::to_string(line.number) + " does not match");
  if (!failure.others.empty()) {
    std::string numbers;
    for (std::size_t i = 0; i < failure.others.size(); ++i)
      numbers += (i == 0 ? "" : ", ") + std::to_string(failure.others[i]);
    if (failure.count > failure.others.size() + 1) numbers += ", ...";
    std::cout << paint(client, "2",
                       "; nor do, in the same way, " +
                           with_thousands(static_cast<std::int64_t>(failure.count - 1)) +
                           " more: " + numbers);
  }
  if (set.size() > 1)
    std::cout << paint(client, "2", "; template " + std::to_string(line.nearest + 1) + " came furthest");
  std::cout << "\n";
  constexpr std::size_t kBefore = 70, kAfter = 50;  // characters shown around the place
  const std::size_t width = std::max<std::size_t>(60, client.width - 2);
  std::string before = one_line(valid_utf8(line.text.substr(0, m.offset))),
              after = one_line(valid_utf8(line.text.substr(std::min(m.offset, line.text.size()))));
  if (display_width(before) > kBefore) {
    std::size_t from = before.size() - kBefore;
    while (from < before.size() && (static_cast<unsigned char>(before[from]) & 0xC0) == 0x80) ++from;
    before = "…" + before.substr(from);
  }
  const std::string sentence = one_line(valid_utf8(m.sentence()));
  const std::size_t column = display_width(before);
  std::cout << "  " << before << paint(client, "1;31", cut_to_width(after, kAfter)) << "\n  ";
  if (column + 4 + display_width(sentence) <= width)
    std::cout << std::string(column, ' ') << paint(client, "1;31", "^") << " " << sentence << "\n";
  else  // there is no room behind the caret
    std::cout << std::string(column, ' ') << paint(client, "1;31", "^") << "\n    "
              << cut_to_width(sentence, width - 4) << "\n";
  if (const std::string advice = line.advice.sentence(); !advice.empty())
    std::cout << "    " << paint(client, "33", cut_to_width("= " + one_line(valid_utf8(advice)), width - 4))
              << "\n";
  if (m.so_far.empty()) return;
  std::string fields;
  for (std::size_t i = 0; i < m.so_far.size(); ++i)
    fields += (i ? ", " : "") + m.so_far[i].first + " = " +
              cut_to_width(one_line(valid_utf8(m.so_far[i].second.to_string())), 30);
  std::cout << "    " << paint(client, "2", "before it: ") << cut_to_width(fields, width - 16) << "\n";
}

void print_summary(const Client& client, const TrialSummary& s, const TemplateSet& set) {
  const std::size_t all = s.matched + s.unmatched;
  auto count = [](std::size_t n) { return with_thousands(static_cast<std::int64_t>(n)); };
  std::cout << paint(client, s.unmatched == 0 ? "1;32" : "1;33",
                     count(s.matched) + " matched, " + count(s.unmatched) + " did not")
            << (all == 0 ? ""
                         : fmt::format(" ({:.1f} %)",
                                       100.0 * static_cast<double>(s.matched) / static_cast<double>(all)))
            << (s.too_expensive == 0 ? ""
                                     : "; " + count(s.too_expensive) + " were too expensive for a template")
            << "\n";
  if (set.size() > 1)
    for (std::size_t i = 0; i < set.size(); ++i) {
      auto it = s.by_template.find(static_cast<int>(i));
      const std::size_t n = it == s.by_template.end() ? 0 : it->second;
      std::cout << "  " << fmt::format("{:>8}", count(n)) << "  " << i + 1 << "  "
                << coloured_template(client, cut_to_width(one_line(set[i].text()),
                                                          std::max<std::size_t>(30, client.width - 16)))
                << "\n";
    }
  if (s.fields.empty() || all < 2) return;
  std::cout << "\n";
  std::vector<Json> rows;
  for (const TrialSummary::OfField& f : s.fields) {
    std::string kinds, values;
    for (const auto& [kind, n] : f.kinds) kinds += (kinds.empty() ? "" : ", ") + kind;
    for (const auto& [value, n] : TrialSummary::top(f, 3))
      values +=
          (values.empty() ? "" : ", ") + cut_to_width(one_line(value), 32) + (n > 1 ? " ×" + count(n) : "");
    rows.push_back({{"field", f.name},
                    {"type", kinds},
                    {"lines", f.lines},
                    {"distinct", f.many ? "1000+" : count(f.values.size())},
                    {"values", values}});
  }
  print_rows(client,
             {{"field", "FIELD"},
              {"type", "TYPE"},
              {"lines", "LINES", Column::Look::count},
              {"distinct", "DIFFERENT"},
              {"values", "MOST FREQUENT"}},
             rows);
}

// The templates, compiled; problems are printed. Empty after problems.
std::vector<std::shared_ptr<const Template>> compile_all(const Client& client, const TryOptions& o,
                                                         const PatternLibrary& library) {
  std::vector<std::string> texts = o.more;
  if (!o.templates_file.empty()) {
    std::string file;
    if (!read_input(o.templates_file, file)) return {};
    for (std::size_t at = 0; at < file.size();) {
      const std::size_t end = std::min(file.find('\n', at), file.size());
      if (end > at && file[at] != '#')
        texts.insert(texts.end() - static_cast<std::ptrdiff_t>(o.more.size()), file.substr(at, end - at));
      at = end + 1;
    }
  } else if (!o.given.empty()) {
    texts.insert(texts.begin(), o.given[0]);
  }
  std::vector<std::shared_ptr<const Template>> all;
  bool ok = true;
  for (std::size_t i = 0; i < texts.size(); ++i) {
    std::vector<Problem> problems;
    auto t = Template::compile(texts[i], library, {.open_end = o.open_end}, problems);
    for (const Problem& p : problems)
      std::cerr << render({true, {1, p.offset + 1}, std::max<std::size_t>(1, p.length), p.message, p.hint},
                          texts.size() == 1 ? "template" : "template " + std::to_string(i + 1), texts[i],
                          painter(client), client.width);
    if (t)
      for (const Problem& p : t->warnings())
        std::cerr << render({false, {1, p.offset + 1}, std::max<std::size_t>(1, p.length), p.message, p.hint},
                            "template", texts[i], painter(client), client.width);
    ok = ok && t;
    all.push_back(std::move(t));
  }
  return ok ? all : std::vector<std::shared_ptr<const Template>>();
}

bool lines_of(const Client& client, const TryOptions& o, std::string& input) {
  if (o.source.empty()) return read_input(o.file(), input);
  const Answer answer =
      call(client, "GET", "/v1/lines", {{"source", o.source}, {"limit", std::to_string(o.newest)}});
  if (!answer.ok) return false;
  for (const Json& line : answer.body["lines"]) input += line.get<std::string>() + "\n";
  if (input.empty()) {
    std::cerr << "dingle: the source `" << o.source << "` has read no lines since dingled was started\n";
    return false;
  }
  return true;
}

int run_once(const Client& client, const TryOptions& o) {
  PatternLibrary own;
  const PatternLibrary* library = &own;
  std::shared_ptr<const Configuration> configuration;
  if (!o.configuration.empty()) {
    std::string text;
    if (!read_input(o.configuration, text)) return kFoundProblems;
    Findings findings(text);
    configuration = read_configuration(text, findings);
    if (!configuration) {
      for (const Finding& f : findings.all())
        std::cerr << render(f, o.configuration, text, painter(client), client.width);
      return kFoundProblems;
    }
    library = configuration->patterns.get();
  }
  const auto templates = compile_all(client, o, *library);
  if (templates.empty()) return kFoundProblems;
  const TemplateSet set(templates);
  for (auto [later, earlier] : set.shadowed())
    std::cerr << "warning: template " << later + 1 << " can never match: number " << earlier + 1
              << " is tried before and takes all of its lines\n";
  std::string input;
  if (!lines_of(client, o, input)) return kFoundProblems;
  if (!input.empty() && input.back() != '\n') input += '\n';
  const std::int64_t now = system_now();
  const bool people = client.output == OutputForm::table;
  constexpr std::size_t kMostAdvised = 100, kShowAll = 20, kShownMatches = 3, kShownMismatches = 10;
  TrialSummary summary;
  std::vector<Failure> failing;
  std::vector<TriedLine> matching;
  std::vector<Json> rows;
  std::vector<std::unique_ptr<Arena>> arenas;
  std::size_t number = 0;
  for (std::size_t at = 0;
       at < input.size() && (o.limit == 0 || summary.matched + summary.unmatched < o.limit);) {
    const std::size_t end = input.find('\n', at);
    std::string_view line = std::string_view(input).substr(at, end - at);
    at = end + 1;
    ++number;
    if (!line.empty() && line.back() == '\r') line.remove_suffix(1);
    if (line.empty()) continue;
    auto arena = std::make_unique<Arena>();
    TriedLine tried = try_line(set, *library, number, line, now, *arena, summary.unmatched < kMostAdvised);
    summary.add(tried);
    if (!people) {
      if (!o.summary) rows.push_back(json_of(tried));
      continue;
    }
    if (tried.which < 0) {
      auto same =
          std::find_if(failing.begin(), failing.end(), [&](const Failure& f) { return f.same(tried); });
      constexpr std::size_t kNumbersShown = 8;
      if (same != failing.end()) {
        ++same->count;
        if (same->others.size() < kNumbersShown) same->others.push_back(tried.number);
        continue;
      }
      if (failing.size() == std::max(o.show, kShowAll)) continue;
      failing.push_back({std::move(tried), {}, 1});
      arenas.push_back(std::move(arena));
    } else if (matching.size() < std::max(o.show, kShowAll)) {
      matching.push_back(std::move(tried));
      arenas.push_back(std::move(arena));
    }
  }
  const int status = summary.unmatched == 0 ? kFine : kFoundProblems;
  if (!people) {
    if (o.summary)
      std::cout << dump(summary.json(), client.output == OutputForm::json ? 2 : -1) << "\n";
    else
      print_rows(client,
                 {{"line", ""},
                  {"matched", ""},
                  {"text", ""},
                  {"template", ""},
                  {"fields", ""},
                  {"column", ""},
                  {"expected", ""},
                  {"found", ""},
                  {"reason", ""},
                  {"advice", ""}},
                 rows);
    return status;
  }
  if (!o.summary) {
    // What fails comes first; all of it when there are few lines.
    const bool few = summary.matched + summary.unmatched <= kShowAll;
    const std::size_t mismatches = o.show ? o.show : few ? kShowAll : kShownMismatches;
    const std::size_t matches = o.show ? o.show : few ? kShowAll : kShownMatches;
    std::size_t told = 0;
    for (std::size_t i = 0; i < std::min(mismatches, failing.size()); ++i) {
      print_mismatch(client, failing[i], set);
      told += failing[i].count;
    }
    if (summary.unmatched > told)
      std::cout << paint(client, "2",
                         "  ... and " + with_thousands(static_cast<std::int64_t>(summary.unmatched - told)) +
                             " more that do not match")
                << "\n";
    for (std::size_t i = 0; i < std::min(matches, matching.size()); ++i)
      print_match(client, matching[i], set);
    if (summary.matched > matches)
      std::cout << paint(client, "2",
                         "  ... and " + with_thousands(static_cast<std::int64_t>(summary.matched - matches)) +
                             " more that match")
                << "\n";
  }
  print_summary(client, summary, set);
  return status;
}

// Changes when one of the files is written.
std::string stamp(const TryOptions& o) {
  std::string all;
  for (const std::string& path : {o.templates_file, o.source.empty() ? o.file() : "", o.configuration}) {
    struct stat info {};
    if (path.empty() || ::stat(path.c_str(), &info) != 0) continue;
    all += fmt::format("{}.{}.{}.{};", info.st_ino, info.st_size, info.st_mtim.tv_sec, info.st_mtim.tv_nsec);
  }
  return all;
}

int run_try(const Client& client, const TryOptions& o) {
  const std::size_t most = o.templates_file.empty() ? 2 : 1;
  if (o.given.size() > most || (o.templates_file.empty() && o.given.empty() && o.more.empty())) {
    std::cerr << "dingle: give a template, or a file of them with --templates\n";
    return kUsage;
  }
  if (!o.watch) return run_once(client, o);
  if (o.source.empty() && o.file() == "-") {
    std::cerr << "dingle: --watch needs a file of lines, or --source\n";
    return kUsage;
  }
  std::string before;
  for (int rounds = 0;; ++rounds) {
    const std::string now = stamp(o);
    if (rounds == 0 || now != before || (!o.source.empty() && rounds % 10 == 0)) {
      if (client.color) clear_terminal();
      run_once(client, o);
      std::cout << paint(client, "2", "watching; interrupt to end") << "\n" << std::flush;
      if (!std::cout) return kFine;
      before = now;
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(200));
  }
}

const CommandRegistration try_command(
    "try", "Tries templates on lines: the fields of each, or where it fails, why, and what would help",
    "dingle try '{client.address:ip} {:word} {user:word} [{at:clf_time}] {message}' "
    "demo/samples/ticket-gate.log --limit 3",
    true, [](const Arguments& app) -> std::function<int(Client&)> {
      auto o = std::make_shared<TryOptions>();
      app.option("TEMPLATE FILE", o->given, "The template, and the lines (- or nothing: standard input)")
          .times(0, 2);
      app.option("--also", o->more, "A further template, tried after those before it; may be repeated")
          .repeated();
      app.option("--templates", o->templates_file,
                 "Take the templates from a file, one a line; # begins a comment. Then only FILE is given");
      app.option("--source", o->source,
                 "Instead of a file: the newest lines of this source of a running dingled");
      app.option("--newest", o->newest, "How many of them").with_default();
      app.option("--config", o->configuration, "Take named patterns from this configuration");
      app.flag("--open-end", o->open_end, "The templates need only match the beginnings of the lines");
      app.option("--limit", o->limit, "Only so many lines");
      app.option("--show", o->show, "Show so many lines that match, and that do not");
      app.flag("--summary", o->summary, "Only the counts and the values of the fields");
      app.flag("--watch", o->watch, "Run again whenever the templates or the lines change");
      return [o](Client& client) { return run_try(client, *o); };
    });

}  // namespace
}  // namespace dingle

// What the options of steps that hide say: which fields, and what is found within texts.
#include "core/ascii.h"
#include "core/nearest.h"
#include "core/steps/hiding.h"
#include "core/template/lexemes.h"

namespace dingle {
namespace {

bool luhn(std::string_view text) {
  int sum = 0, n = 0;
  for (auto c = text.rbegin(); c != text.rend(); ++c) {
    if (!is_digit(*c)) continue;
    int digit = *c - '0';
    if (n++ % 2 == 1 && (digit *= 2) > 9) digit -= 9;
    sum += digit;
  }
  return n >= 13 && n <= 19 && sum % 10 == 0;
}

bool is_address(std::string_view text) {
  unsigned char bytes[16];
  return parse_ip(text, bytes);
}

struct NamedFinder {
  const char *name, *regex;
  bool (*sound)(std::string_view);
};
constexpr NamedFinder kNamed[] = {
    {"card", R"((?<![0-9])[0-9](?:[ -]?[0-9]){12,18}(?![0-9]))", luhn},
    {"email", R"([A-Za-z0-9_%+-][A-Za-z0-9._%+-]*+@[A-Za-z0-9-]++(?:\.[A-Za-z0-9-]++)+)", nullptr},
    {"token",
     R"((?i:\bbearer\s++|\bbasic\s++|(?:token|api[_-]?key|secret|password|passwd|pwd)["']?\s*+[=:]\s*+["']?)(?<hide>[A-Za-z0-9._~+/=-]{4,})|(?<jwt>\beyJ[A-Za-z0-9_-]+\.[A-Za-z0-9_-]+\.[A-Za-z0-9_-]*+))",
     nullptr},
    {"address",
     R"((?<![\w.:])(?:[0-9]{1,3}(?:\.[0-9]{1,3}){3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7}(?:\.[0-9]{1,3}){0,3})(?![\w.:]*[\w:]))",
     is_address}};

}  // namespace

std::vector<OptionSpec> hiding_options(std::vector<OptionSpec> more) {
  std::vector<OptionSpec> all{
      {.name = "fields", .type = OptionType::fields, .text = "Fields that are hidden whole."},
      {.name = "find",
       .type = OptionType::texts,
       .text = "What is hidden wherever in a text it stands: `card` (13 to 19 digits with a right check "
               "digit), `email`, `token` "
               "(behind `Bearer`, `password=` and the like; three parts that begin with `eyJ`), `address`."},
      {.name = "regex",
       .type = OptionType::text,
       .text = "What is hidden wherever it matches; of a regex with a named group only what that takes."},
      {.name = "within",
       .type = OptionType::fields,
       .text = "Where `find` and `regex` look; in the body and all texts if it is not given."}};
  all.insert(all.end(), more.begin(), more.end());
  return all;
}

bool read_hiding(const StepMaking& m, HidingStep& step) {
  bool ok = true;
  for (const std::string& name : m.options.texts("fields")) step.fields.push_back(field_id(name));
  for (const std::string& name : m.options.texts("within")) step.within.push_back(field_id(name));
  std::vector<std::string> names;
  for (const NamedFinder& one : kNamed) names.emplace_back(one.name);
  for (const std::string& name : m.options.texts("find")) {
    const auto known = std::find(names.begin(), names.end(), name);
    if (known == names.end()) {
      const std::string near = did_you_mean(name, names);
      m.findings.error(m.options.where("find"), "`" + name + "` is nothing that can be found",
                       near.empty() ? one_of(names) : near);
      ok = false;
      continue;
    }
    const NamedFinder& one = kNamed[known - names.begin()];
    auto regex = Regex::compile(one.regex, Regex::Where::anywhere);
    if (!regex) {
      m.findings.error(m.options.where("find"), regex.problem().message, "");
      return false;
    }
    HidingStep::Finder finder{*regex, 0, one.sound, name == "address"};
    for (const auto& [group, number] : finder.regex.groups())
      if (group == "hide") finder.group = number;
    step.finders.push_back(std::move(finder));
  }
  if (m.options.given("regex")) {
    auto regex = Regex::compile(m.options.text("regex"), Regex::Where::anywhere);
    if (!regex) {
      m.findings.error_within(m.options.where("regex"), regex.problem());
      return false;
    }
    HidingStep::Finder finder{*regex, 0, nullptr, false};
    if (const auto groups = regex->groups(); !groups.empty()) finder.group = groups.front().second;
    step.finders.push_back(std::move(finder));
  }
  if (ok && step.fields.empty() && step.finders.empty()) {
    m.findings.error(m.options.place(), 1, "nothing says what is hidden",
                     "one of `fields`, `find` and `regex`");
    ok = false;
  }
  if (!step.within.empty() && step.finders.empty()) {
    m.findings.error(m.options.where("within"), "`within` is for `find` and `regex`", "");
    ok = false;
  }
  return ok;
}

}  // namespace dingle

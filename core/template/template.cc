#include "core/template/template.h"

#include <algorithm>

#include "core/template/compiler.h"

namespace dingle {

std::shared_ptr<const Template> Template::compile(std::string_view text, const PatternLibrary& library,
                                                  TemplateOptions options, std::vector<Problem>& problems) {
  const std::size_t before = problems.size();
  auto result = std::make_shared<Template>();
  result->text_ = std::string(text);
  std::vector<Part> parts = parse_template(text, problems);
  if (parts.empty() && problems.size() == before)
    problems.push_back({"the template is empty", "write {body} to take the whole line", 0, 0});
  TemplateCompiler(*result, library, problems).compile(parts, options.open_end);
  if (problems.size() != before) return nullptr;
  const auto takes = [](const Part& p) {
    return p.form == Part::Form::capture || p.form == Part::Form::regex;
  };
  if (result->slots_.empty() && !result->brings_found() && std::ranges::any_of(parts, takes))
    result->warnings_.push_back({"the template keeps nothing of what it matches",
                                 "name what is wanted: {ship:word}, {:/(?<ship>[A-Z]+)/}", 0, text.size()});
  return result;
}

bool Template::match_with(const NamedRunner& runner, std::string_view line, const MatchContext& context,
                          Value* values, int* expensive) const {
  if (program_.clears) std::fill_n(values, slots_.size(), Value());
  if (line.data() == nullptr) line = std::string_view("", 0);
  MatchState state(line, context, values);
  const char* p = runner.run(program_, 0, line.data(), state);
  if (expensive != nullptr && state.too_expensive) *expensive = 0;
  return p != nullptr && (open_end_ || p == state.end);
}

bool Template::match(std::string_view line, const MatchContext& context, Value* values,
                     int* expensive) const {
  const NamedRunner& runner = runner_for(line, context);
  if (runner.reads_ahead)  // lines of a batch lie one behind the other: fetch what comes soon
    for (std::size_t ahead = 512; ahead < 512 + 192; ahead += 64) __builtin_prefetch(line.data() + ahead);
  return match_with(runner, line, context, values, expensive);
}

std::size_t Template::matched(std::string_view line, const MatchContext& context, Value* values) const {
  if (program_.clears) std::fill_n(values, slots_.size(), Value());
  if (line.data() == nullptr) line = std::string_view("", 0);
  MatchState state(line, context, values);
  const char* p = runner_for(line, context).run(program_, 0, line.data(), state);
  return p != nullptr && (open_end_ || p == state.end) ? static_cast<std::size_t>(p - line.data())
                                                       : std::string_view::npos;
}

bool Template::brings_found() const {
  return std::any_of(program_.fields.begin(), program_.fields.end(),
                     [](const FieldsUse& use) { return use.brings_found; });
}

Value convert_text(std::string_view text, Kind kind, const MatchContext& context) {
  if (kind == Kind::text) return Value::text(text);
  static const Lexeme* const integer = builtin_lexeme("int");
  static const Lexeme* const decimal = builtin_lexeme("decimal");
  static const Lexeme* const boolean = builtin_lexeme("boolean");
  static const Lexeme* const time = builtin_lexeme("time");
  static const Lexeme* const ip = builtin_lexeme("ip");
  const Lexeme* lexeme = kind == Kind::integer     ? integer
                         : kind == Kind::decimal   ? decimal
                         : kind == Kind::boolean   ? boolean
                         : kind == Kind::timestamp ? time
                         : kind == Kind::ip        ? ip
                                                   : nullptr;
  if (lexeme == nullptr || text.empty()) return {};
  Value value;
  const char* end = text.data() + text.size();
  return lexeme->scan(text.data(), end, context, nullptr, value) == end ? value : Value();
}

const std::vector<std::string>& kind_names() {
  static const std::vector<std::string> all{"text", "int", "decimal", "boolean", "timestamp", "ip"};
  return all;
}

Kind kind_named(std::string_view name) {
  for (Kind kind : {Kind::text, Kind::integer, Kind::decimal, Kind::boolean, Kind::timestamp, Kind::ip})
    if (kind_name(kind) == name) return kind;
  return Kind::absent;
}

}  // namespace dingle

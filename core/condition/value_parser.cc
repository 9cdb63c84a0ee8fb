#include "core/condition/value_parser.h"

#include <charconv>

#include "core/nearest.h"
#include "core/template/template.h"
#include "core/time/instant.h"

namespace dingle {
namespace {

// Kinds as SQL names them, beside our own names.
constexpr std::pair<std::string_view, Kind> kSqlKinds[] = {
    {"integer", Kind::integer}, {"bigint", Kind::integer}, {"numeric", Kind::decimal},
    {"real", Kind::decimal},    {"varchar", Kind::text},   {"double precision", Kind::decimal},
    {"double", Kind::decimal},  {"bool", Kind::boolean}};

std::vector<std::string> function_names() {
  std::vector<std::string> names{"coalesce", "cast", "position", "extract"};
  for (const NamedFunction& f : named_functions()) names.emplace_back(f.name);
  return names;
}

}  // namespace

const std::vector<std::string>& ValueParser::reserved_words() {
  static const std::vector<std::string> words{"and",   "or",      "not",     "in",       "between",
                                              "like",  "escape",  "is",      "null",     "true",
                                              "false", "unknown", "matches", "mentions", "timestamp"};
  return words;
}

bool ValueParser::fail(std::string message, std::string hint, std::size_t offset, std::size_t length) {
  problem_ = {std::move(message), std::move(hint), offset, length};
  return false;
}

bool ValueParser::expected(const std::string& what, std::string hint) {
  std::string found = token_.form == Token::Form::end
                          ? std::string("the end of the ") + what_
                          : "`" + std::string(text_.substr(token_.offset, token_.length)) + "`";
  return fail("expected " + what + ", found " + found, std::move(hint), token_.offset,
              std::max<std::size_t>(1, token_.length));
}

bool ValueParser::advance() {
  last_end_ = token_.offset + token_.length;
  auto token = next_token(text_, at_);
  if (!token) {
    problem_ = token.problem();
    return false;
  }
  token_ = std::move(*token);
  return true;
}

bool ValueParser::follows(char c) const {
  const std::size_t next = text_.find_first_not_of(" \t\r\n", at_);
  return next != std::string_view::npos && text_[next] == c;
}

std::uint32_t ValueParser::add(Operand operand) {
  tree_->operands.push_back(std::move(operand));
  return static_cast<std::uint32_t>(tree_->operands.size() - 1);
}

bool ValueParser::add_call(Function function, std::vector<std::uint32_t> arguments, CallDetail detail,
                           Part& out) {
  Operand made;
  made.form = Operand::Form::call, made.function = function;
  bool constant = true;
  for (const std::uint32_t argument : arguments) constant = constant && is_constant(argument);
  const std::size_t length = last_end_ - out.offset;
  if (constant) {
    std::vector<Value> values;
    for (const std::uint32_t argument : arguments) values.push_back(tree_->operands[argument].constant);
    Arena arena;
    std::string_view fault;
    const Value v = call(function, values, detail, arena, fault);
    if (!fault.empty()) return fail("this has no value: " + std::string(fault), "", out.offset, length);
    made.form = Operand::Form::constant;
    made.constant = v.is_textual() ? Value::from_text(v.kind(), tree_->texts.emplace_back(v.as_text())) : v;
  } else {
    if (detail.kind != Kind::absent || function == Function::trim || function == Function::extract) {
      made.detail = static_cast<std::uint32_t>(tree_->details.size());
      tree_->details.push_back(std::move(detail));
    }
    made.arguments = std::move(arguments);
    tree_->makes_values = true;
  }
  return finish(std::move(made), out);
}

bool ValueParser::finish(Operand made, Part& out) {
  const bool mixed = made.form == Operand::Form::choose;
  for (std::size_t i = 0; i < made.arguments.size(); ++i) {
    const std::uint32_t argument = made.arguments[i];
    const bool node =
        made.form == Operand::Form::truth || (mixed && i % 2 == 0 && i + 1 < made.arguments.size());
    const std::uint16_t depth = node ? tree_->nodes[argument].depth : tree_->operands[argument].depth;
    made.depth = std::max<std::uint16_t>(made.depth, depth + 1);
  }
  if (made.depth > kDeepestCondition)
    return fail(std::string("the ") + what_ + " is nested too deeply", "", out.offset, 1);
  out.is_truth = false;
  out.index = add(std::move(made));
  return true;
}

bool ValueParser::numeric(const Part& part) {
  if (!to_value_only(part)) return false;
  const Operand& o = at(part);
  if (o.form != Operand::Form::constant || o.constant.is_number() || o.constant.absent() ||
      o.constant.kind() == Kind::timestamp)
    return true;
  if (o.constant.is_textual() && make_literal(o.constant).number) return true;
  return fail("this is no number", o.constant.is_textual() ? "`||` joins texts" : "", part.offset,
              last_end_ - part.offset);
}

bool ValueParser::to_value_only(const Part& part) {
  return !part.is_truth || fail("expected a value, found a condition", "put `and` or `or` between conditions",
                                part.offset, last_end_ - part.offset);
}

bool ValueParser::to_value(Part& part) {
  if (!part.is_truth) return true;
  Operand made;
  made.form = Operand::Form::truth;
  made.arguments = {part.index};
  tree_->makes_values = true;  // what is within may make some
  return finish(std::move(made), part);
}

bool ValueParser::sum(Part& out, std::size_t depth) {
  if (!added(out, depth)) return false;
  if (!is_sign("||")) return true;
  std::vector<std::uint32_t> all{out.index};
  if (!to_value_only(out)) return false;
  while (is_sign("||")) {
    Part right;
    if (!advance() || !added(right, depth) || !to_value_only(right)) return false;
    all.push_back(right.index);
    joined_ = true;
  }
  return add_call(Function::concatenate, std::move(all), {}, out);
}

bool ValueParser::added(Part& out, std::size_t depth) {
  if (!multiplied(out, depth)) return false;
  while (is_sign("+") || is_sign("-")) {
    const Function f = is_sign("+") ? Function::add : Function::subtract;
    Part right;
    if (!numeric(out) || !advance() || !multiplied(right, depth) || !numeric(right) ||
        !add_call(f, {out.index, right.index}, {}, out))
      return false;
  }
  return true;
}

bool ValueParser::multiplied(Part& out, std::size_t depth) {
  if (!single(out, depth)) return false;
  while (is_sign("*") || is_sign("/") || is_sign("%")) {
    const Function f = is_sign("*") ? Function::multiply : is_sign("/") ? Function::divide : Function::modulo;
    Part right;
    if (!numeric(out) || !advance() || !single(right, depth) || !numeric(right) ||
        !add_call(f, {out.index, right.index}, {}, out))
      return false;
  }
  return true;
}

bool ValueParser::single(Part& out, std::size_t depth) {
  out = {};
  out.offset = token_.offset;
  if (depth > kDeepestCondition)
    return fail(std::string("the ") + what_ + " is nested too deeply", "", token_.offset, 1);
  if (is_sign("(")) {
    if (!advance() || !either(out, depth + 1)) return false;
    if (!is_sign(")")) return expected("`)`");
    return advance();
  }
  if (is_sign("-") || is_sign("+")) {
    const bool minus = is_sign("-");
    const std::size_t offset = token_.offset;
    if (!advance()) return false;
    if (token_.form == Token::Form::number) return number(minus, offset, out);
    if (!single(out, depth + 1) || !numeric(out)) return false;
    out.offset = offset;
    return !minus || add_call(Function::negate, {out.index}, {}, out);
  }
  if (token_.form == Token::Form::number) return number(false, token_.offset, out);
  if (token_.form == Token::Form::text)
    return constant(Value::text(tree_->texts.emplace_back(token_.text)), out);
  if (token_.form == Token::Form::name) {
    const std::string word = lower_ascii_text(token_.text);
    if (word == "true" || word == "false") return constant(Value::boolean(word == "true"), out);
    if (word == "null") return constant({}, out);
    if (word == "case") return choose(out, depth);
    if (word == "timestamp" && follows('\'')) return moment(out);
    if (follows('(')) return function(word, out, depth);
  }
  return field(out);
}

bool ValueParser::constant(Value value, Part& out) {
  Operand made;
  made.constant = value;
  return finish(std::move(made), out) && advance();
}

bool ValueParser::number(bool minus, std::size_t offset, Part& out) {
  const std::string text = (minus ? "-" : "") + token_.text;
  const char* const end = text.data() + text.size();
  std::int64_t integer = 0;
  double decimal = 0;
  if (auto r = std::from_chars(text.data(), end, integer); r.ec == std::errc() && r.ptr == end)
    return constant(Value::integer(integer), out);
  if (auto d = std::from_chars(text.data(), end, decimal); d.ec == std::errc() && d.ptr == end)
    return constant(Value::decimal(decimal), out);
  return fail("`" + text + "` is not a number", "texts stand in single quotes", offset,
              token_.offset + token_.length - offset);
}

bool ValueParser::moment(Part& out) {
  if (!advance()) return false;
  if (token_.text == "now" || parse_duration(token_.text)) return relative_time(token_);
  const auto instant = parse_moment(token_.text, 0);
  if (!instant) return expected("a time in quotes", "for instance timestamp '2026-11-23 10:00:00'");
  return constant(Value::timestamp(*instant), out);
}

bool ValueParser::relative_time(const Token& token) {
  return fail("`" + token.text + "` is relative to now, and a " + what_ + " has no clock",
              "write a time such as '2026-11-23 10:00:00'; searches take --since 15m", token.offset,
              token.length);
}

bool ValueParser::field(Part& out) {
  const bool reserved = token_.form == Token::Form::name &&
                        std::find(reserved_words().begin(), reserved_words().end(),
                                  lower_ascii_text(token_.text)) != reserved_words().end() &&
                        !is_word("timestamp");
  const char* const what = "a value or a field's name";
  if ((token_.form != Token::Form::name && token_.form != Token::Form::quoted_name) || reserved)
    return expected(what);
  const FieldId id = field_id(token_.text);
  if (id == kNoField)
    return expected(what, "too many field names are known already, or this one is too long");
  if (std::find(tree_->fields.begin(), tree_->fields.end(), id) == tree_->fields.end())
    tree_->fields.push_back(id);
  Operand made;
  made.form = Operand::Form::field, made.field = id;
  return finish(std::move(made), out) && advance();
}

bool ValueParser::choose(Part& out, std::size_t depth) {
  Operand made;
  made.form = Operand::Form::choose;
  tree_->makes_values = true;
  if (!advance()) return false;
  Part of;
  const bool simple = !is_word("when");
  if (simple && (!either(of, depth + 1) || !to_value(of))) return false;
  if (!is_word("when")) return expected("`when`", "case when CONDITION then VALUE else VALUE end");
  while (is_word("when")) {
    Part when, then;
    if (!advance()) return false;
    if (simple) {
      if (!compared(of, when, depth + 1)) return false;
      when.index = compare_parts(of, Comparison::equal, when);
    } else if (!either(when, depth + 1) || !to_truth(when)) {
      return false;
    }
    if (!skip_word("then") || !argument(then, depth)) return false;
    made.arguments.insert(made.arguments.end(), {when.index, then.index});
  }
  if (is_word("else")) {
    Part other;
    if (!advance() || !argument(other, depth)) return false;
    made.arguments.push_back(other.index);
  }
  if (!is_word("end")) return expected("`when`, `else` or `end`");
  return finish(std::move(made), out) && advance();
}

bool ValueParser::function(const std::string& name, Part& out, std::size_t depth) {
  const Token word = token_;
  if (!advance() || !skip_sign("(")) return false;
  std::vector<std::uint32_t> arguments;
  CallDetail detail;
  Function f = Function::concatenate;
  if (name == "cast") {
    f = Function::cast;
    if (!one(arguments, depth) || !skip_word("as") || !kind(detail.kind)) return false;
  } else if (name == "extract") {
    f = Function::extract;
    if (!extracted(arguments, detail, depth)) return false;
  } else if (name == "position") {
    f = Function::position;
    if (!one(arguments, depth) || !skip_word("in") || !one(arguments, depth)) return false;
  } else if (name == "trim") {
    f = Function::trim;
    if (!trimmed(arguments, detail, depth)) return false;
  } else if (name == "coalesce") {
    if (!list(arguments, depth)) return false;
  } else {
    const auto known = std::find_if(named_functions().begin(), named_functions().end(),
                                    [&](const NamedFunction& n) { return n.name == name; });
    if (known == named_functions().end())
      return fail("there is no function `" + word.text + "`", did_you_mean(name, function_names()),
                  word.offset, word.length);
    f = known->function;
    if (name == "ltrim") detail.side = CallDetail::Side::leading;
    if (name == "rtrim") detail.side = CallDetail::Side::trailing;
    if (!list(arguments, depth)) return false;
    if (name == "substring" && arguments.size() == 1)
      for (const char* preposition : {"from", "for"})
        if (is_word(preposition)) {
          if (std::string_view(preposition) == "for" && arguments.size() == 1) {
            Part first;
            Operand made;
            made.constant = Value::integer(1);
            if (!finish(std::move(made), first)) return false;
            arguments.push_back(first.index);
          }
          if (!advance() || !one(arguments, depth)) return false;
        }
    if (arguments.size() < known->least || arguments.size() > known->most)
      return fail("`" + word.text + "` takes " + std::to_string(known->least) +
                      (known->most == known->least ? "" : " to " + std::to_string(known->most)) +
                      (known->most == 1 ? " argument" : " arguments") + ", not " +
                      std::to_string(arguments.size()),
                  "", word.offset, word.length);
  }
  if (!is_sign(")")) return expected("`)`");
  last_end_ = token_.offset + 1;
  if (name == "coalesce") {
    Operand made;
    made.form = Operand::Form::coalesce;
    made.arguments = std::move(arguments);
    tree_->makes_values = true;
    if (!finish(std::move(made), out)) return false;
  } else if (!add_call(f, std::move(arguments), std::move(detail), out)) {
    return false;
  }
  return advance();
}

bool ValueParser::one(std::vector<std::uint32_t>& arguments, std::size_t depth) {
  Part part;
  if (!operand(part, depth)) return false;
  arguments.push_back(part.index);
  return true;
}

bool ValueParser::list(std::vector<std::uint32_t>& arguments, std::size_t depth) {
  for (;;) {
    Part part;
    if (!argument(part, depth)) return false;
    arguments.push_back(part.index);
    if (!is_sign(",")) return true;
    if (!advance()) return false;
  }
}

bool ValueParser::kind(Kind& out) {
  std::string name = lower_ascii_text(token_.text);
  if (token_.form != Token::Form::name) return expected("a type", one_of(kind_names()));
  if (name == "double" && follows('p')) {
    if (!advance()) return false;
    name += " " + lower_ascii_text(token_.text);
  }
  out = kind_named(name);
  for (const auto& [sql, kind] : kSqlKinds)
    if (name == sql) out = kind;
  if (out == Kind::absent) {
    const std::string near = did_you_mean(name, kind_names());
    return expected("a type", near.empty() ? one_of(kind_names()) : near);
  }
  return advance();
}

bool ValueParser::extracted(std::vector<std::uint32_t>& arguments, CallDetail& detail, std::size_t depth) {
  const auto unit = extract_unit(lower_ascii_text(token_.text));
  if (token_.form != Token::Form::name || !unit) {
    const std::string near = did_you_mean(lower_ascii_text(token_.text), extract_units());
    return expected("a part of a time", near.empty() ? one_of(extract_units()) : near);
  }
  detail.unit = *unit;
  if (!advance() || !skip_word("from") || !one(arguments, depth)) return false;
  const Operand& of = tree_->operands[arguments[0]];
  if (of.form == Operand::Form::constant && of.constant.is_number())
    return fail("a part of a time is taken from a time, not from a number", "", last_end_ - 1, 1);
  if (!is_word("at")) return true;
  if (!advance() || !skip_word("time") || !skip_word("zone")) return false;
  if (token_.form != Token::Form::text)
    return expected("a time zone in single quotes", "for instance 'Europe/Helsinki'");
  auto zone = Zone::named(token_.text);
  if (!zone) return fail(zone.problem().message, zone.problem().hint, token_.offset, token_.length);
  detail.zone = *zone;
  return advance();
}

bool ValueParser::trimmed(std::vector<std::uint32_t>& arguments, CallDetail& detail, std::size_t depth) {
  bool side = true;
  if (is_word("leading"))
    detail.side = CallDetail::Side::leading;
  else if (is_word("trailing"))
    detail.side = CallDetail::Side::trailing;
  else if (!is_word("both"))
    side = false;
  if (side && !advance()) return false;
  if (side && is_word("from")) return advance() && one(arguments, depth);
  if (!one(arguments, depth)) return false;
  if (is_word("from")) {
    if (!advance() || !one(arguments, depth)) return false;
    std::swap(arguments[0], arguments[1]);
  } else if (side) {
    return expected("`from` and the text", "for instance: trim(leading '0' from ticket)");
  } else if (is_sign(",")) {
    return advance() && one(arguments, depth);
  }
  return true;
}

}  // namespace dingle

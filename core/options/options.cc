#include "core/options/options.h"

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <charconv>

#include "core/nearest.h"
#include "core/template/library.h"
#include "core/time/instant.h"

namespace dingle {

bool parse_size(std::string_view text, std::int64_t& bytes) {
  std::int64_t number = 0;
  auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (error != std::errc() || number < 0) return false;
  std::string_view unit(end, static_cast<std::size_t>(text.data() + text.size() - end));
  static constexpr std::pair<std::string_view, std::int64_t> kUnits[] = {
      {"", 1},          {"B", 1},           {"KiB", 1 << 10},     {"MiB", 1 << 20},
      {"GiB", 1 << 30}, {"TiB", 1LL << 40}, {"KB", 1000},         {"kB", 1000},
      {"MB", 1000000},  {"GB", 1000000000}, {"TB", 1000000000000}};
  for (auto [name, factor] : kUnits)
    if (unit == name) return !__builtin_mul_overflow(number, factor, &bytes);
  return false;
}

std::string format_size(std::uint64_t bytes) {
  static constexpr const char* kUnits[] = {"B", "KiB", "MiB", "GiB", "TiB"};
  double value = static_cast<double>(bytes);
  std::size_t unit = 0;
  while (value >= 1024 && unit + 1 < std::size(kUnits)) value /= 1024, ++unit;
  return unit == 0 ? fmt::format("{} B", bytes) : fmt::format("{:.1f} {}", value, kUnits[unit]);
}

const char* option_type_name(OptionType type) {
  switch (type) {
    case OptionType::text: return "text";
    case OptionType::texts: return "a list of texts";
    case OptionType::integer: return "a whole number";
    case OptionType::number64: return "a whole number from 0 to 18446744073709551615";
    case OptionType::boolean: return "true or false";
    case OptionType::size: return "a size such as 64KiB or 1GiB";
    case OptionType::duration: return "a duration such as 200ms or 6h";
    case OptionType::moment: return "a time";
    case OptionType::choice: return "a choice";
    case OptionType::field: return "a field's name";
    case OptionType::fields: return "a list of fields' names";
    case OptionType::field_patterns: return "a list of fields' names, in which * stands for any text";
    case OptionType::templates: return "a list of templates";
    case OptionType::template_lists: return "a map of values to templates";
    case OptionType::template_text: return "a template";
    case OptionType::condition: return "a condition";
    case OptionType::zone: return "a time zone";
    case OptionType::values: return "a map of fields to values";
    case OptionType::renames: return "a map of fields to fields";
    case OptionType::table: return "a map of texts to values";
    case OptionType::references: return "a list of names";
    case OptionType::routes: return "a list of names, which may have a condition each";
    case OptionType::columns: return "a map of columns to types";
    case OptionType::section: return "a map of options";
    case OptionType::secret: return "a secret: { env: NAME } or { file: PATH }";
    case OptionType::secrets: return "a map of names to secrets";
    case OptionType::integers: return "a list of whole numbers";
  }
  return "";
}

bool Options::parse(const OptionSpec& spec, const Node& node, Held& held, Findings& findings) {
  auto wrong = [&](std::string hint = "") {
    std::string found = node.is_scalar() ? "`" + node.scalar + "`" : node.form_name();
    findings.error(
        node, std::string("`") + spec.name + "` takes " + option_type_name(spec.type) + ", found " + found,
        std::move(hint));
    return false;
  };
  // `shown`: how the unit is written.
  auto within = [&](auto shown) {
    if (held.number >= spec.least && held.number <= spec.most) return true;
    const bool small = held.number < spec.least;
    findings.error(node, std::string("`") + spec.name + "` is at " + (small ? "least " : "most ") +
                             shown(small ? spec.least : spec.most) + ", found `" + node.scalar + "`");
    return false;
  };
  auto valid_field = [&](const Node& item) {
    if (is_field_name(item.scalar)) return true;
    findings.error(item, "`" + item.scalar + "` is not a field's name",
                   "use letters, digits, `_`, `-` and `.`, with a letter or `_` first");
    return false;
  };
  auto valid_field_pattern = [&](const Node& item) {
    std::string name = item.scalar;
    std::replace(name.begin(), name.end(), '*', 'x');
    return is_field_name(name) || valid_field(item);
  };
  switch (spec.type) {
    case OptionType::text:
    case OptionType::template_text:
    case OptionType::condition:
    case OptionType::zone:
      if (!node.is_scalar()) return wrong();
      held.text = node.scalar;
      return true;
    case OptionType::field:
      if (!node.is_scalar()) return wrong();
      held.text = node.scalar;
      return valid_field(node);
    case OptionType::texts:
    case OptionType::templates:
    case OptionType::fields:
    case OptionType::field_patterns:
    case OptionType::references: {
      if (!node.is_scalar() && !node.is_list()) return wrong();
      const std::vector<Node> one{node};
      for (const Node& item : node.is_list() ? node.items : one) {
        if (!item.is_scalar()) {
          findings.error(item, std::string("`") + spec.name + "` takes " + option_type_name(spec.type) +
                                   ", found " + item.form_name() + " in it");
          return false;
        }
        if (spec.type == OptionType::fields && !valid_field(item)) return false;
        if (spec.type == OptionType::field_patterns && !valid_field_pattern(item)) return false;
        held.texts.push_back(item.scalar);
      }
      if (held.texts.empty() && spec.required) return wrong("it needs at least one");
      return true;
    }
    case OptionType::routes: {
      const std::vector<Node> one{node};
      for (const Node& item : node.is_list() ? node.items : one) {
        if (item.is_scalar()) {
          held.texts.push_back(item.scalar);
          continue;
        }
        if (!item.is_map()) return wrong("for instance [operations, { alerts: \"score >= 80\" }]");
        for (const Node::Entry& entry : item.entries) {
          held.texts.push_back(entry.key);
          if (entry.value.is_scalar()) continue;
          findings.error(entry.value,
                         "a condition is expected here, found " + std::string(entry.value.form_name()),
                         "for instance { " + entry.key + ": \"status >= 500\" }");
          return false;
        }
      }
      if (held.texts.empty() && spec.required) return wrong("it needs at least one");
      held.node = node;
      return true;
    }
    case OptionType::integer: {
      if (!node.is_scalar() || node.quoted) return wrong();
      const char* end = node.scalar.data() + node.scalar.size();
      auto r = std::from_chars(node.scalar.data(), end, held.number);
      if (r.ec != std::errc() || r.ptr != end) return wrong();
      return within([](std::int64_t n) { return std::to_string(n); });
    }
    case OptionType::number64: {
      std::uint64_t n = 0;
      const char* end = node.scalar.data() + node.scalar.size();
      auto r = std::from_chars(node.scalar.data(), end, n);
      if (!node.is_scalar() || r.ec != std::errc() || r.ptr != end) return wrong();
      held.number = static_cast<std::int64_t>(n);
      return true;
    }
    case OptionType::boolean:
      if (!node.is_scalar() || node.quoted || (node.scalar != "true" && node.scalar != "false"))
        return wrong();
      held.number = node.scalar == "true";
      return true;
    case OptionType::size:
      if (!node.is_scalar() || !parse_size(node.scalar, held.number))
        return wrong("units: B, KiB, MiB, GiB, TiB, KB, MB, GB, TB");
      return within([](std::int64_t n) { return format_size(static_cast<std::uint64_t>(n)); });
    case OptionType::duration: {
      auto d = node.is_scalar() ? parse_duration(node.scalar) : std::nullopt;
      if (!d) return wrong("units: ns, us, ms, s, m, h, d, w");
      held.number = *d;
      return within([](std::int64_t n) { return format_duration(n); });
    }
    case OptionType::moment:
      if (!node.is_scalar() || !parse_moment(node.scalar, system_now()))
        return wrong("write 2026-11-23T10:00:00Z, 2026-11-23, now, or how long ago: 15m, 6h");
      held.text = node.scalar;
      return true;
    case OptionType::choice:
      if (!node.is_scalar()) return wrong(one_of(spec.choices));
      held.text = node.scalar;
      if (std::find(spec.choices.begin(), spec.choices.end(), held.text) != spec.choices.end()) return true;
      findings.error(node, "`" + node.scalar + "` is no choice for `" + spec.name + "`",
                     did_you_mean(node.scalar, spec.choices) +
                         (did_you_mean(node.scalar, spec.choices).empty() ? "" : " ") + one_of(spec.choices));
      return false;
    case OptionType::values:
    case OptionType::table:
    case OptionType::renames: {
      if (!node.is_map()) return wrong();
      bool ok = true;
      for (const auto& entry : node.entries) {
        if (spec.type != OptionType::table && !is_field_name(entry.key)) {
          findings.error(entry.key_place, entry.key.size(), "`" + entry.key + "` is not a field's name",
                         "use letters, digits, `_`, `-` and `.`, with a letter or `_` first");
          ok = false;
        }
        if (!entry.value.is_scalar()) {
          findings.error(entry.value,
                         "a single value is expected here, found " + std::string(entry.value.form_name()));
          ok = false;
        } else if (spec.type == OptionType::renames) {
          ok = valid_field(entry.value) && ok;
        }
      }
      held.node = node;
      return ok;
    }
    case OptionType::columns:
      if (!node.is_map()) return wrong();
      held.node = node;
      return true;
    case OptionType::template_lists: {
      if (!node.is_map()) return wrong();
      bool ok = true;
      for (const auto& entry : node.entries) {
        const std::vector<Node> one{entry.value};
        for (const Node& item : entry.value.is_list() ? entry.value.items : one)
          if (!item.is_scalar()) {
            findings.error(item, "a template is expected here, found " + std::string(item.form_name()));
            ok = false;
          }
      }
      held.node = node;
      return ok;
    }
    case OptionType::secret: {
      if (node.is_scalar()) {  // what was written is not repeated
        findings.error(node, std::string("the secret `") + spec.name + "` stands in the configuration itself",
                       "keep it elsewhere: { env: NAME } or { file: PATH }");
        return false;
      }
      if (!node.is_map() || node.entries.size() != 1 || !node.entries[0].value.is_scalar() ||
          (node.entries[0].key != "env" && node.entries[0].key != "file"))
        return wrong();
      held.text = node.entries[0].key + ":" + node.entries[0].value.scalar;
      return true;
    }
    case OptionType::secrets: {
      if (!node.is_map()) return wrong();
      bool ok = true;
      OptionSpec each = spec;
      each.type = OptionType::secret;
      for (const Node::Entry& e : node.entries) {
        each.name = e.key.c_str();
        Held one;
        ok = parse(each, e.value, one, findings) && ok;
        held.texts.push_back(one.text);
      }
      held.node = node;
      return ok;
    }
    case OptionType::integers: {
      if (!node.is_scalar() && !node.is_list()) return wrong();
      const std::vector<Node> one{node};
      for (const Node& item : node.is_list() ? node.items : one) {
        std::int64_t n = 0;
        const char* end = item.scalar.data() + item.scalar.size();
        auto r = std::from_chars(item.scalar.data(), end, n);
        if (!item.is_scalar() || r.ec != std::errc() || r.ptr != end) return wrong();
        held.numbers.push_back(n);
      }
      return true;
    }
    case OptionType::section:
      if (!node.is_map()) return wrong();
      held.section[0] = Options::read(spec.section, node, spec.name, findings);
      return true;
  }
  return false;
}

Options Options::read(const std::vector<OptionSpec>& specs, const Node& node, const std::string& owner,
                      Findings& findings, const std::vector<std::string>& ignored) {
  Options options;
  options.place_ = node.place;
  std::vector<std::string> known;
  for (const OptionSpec& spec : specs) {
    known.push_back(spec.name);
    Held& held = options.held_[spec.name];
    held.type = spec.type;
    if (spec.type == OptionType::section) {
      Findings quiet("");
      held.section.push_back(Options::read(spec.section, Node{}, spec.name, quiet));
    } else if (*spec.fallback) {
      Findings quiet("");
      Node fallback;
      fallback.form = Node::Form::scalar;
      fallback.scalar = spec.fallback;
      [[maybe_unused]] bool ok = parse(spec, fallback, held, quiet);
      assert(ok);
    }
  }
  if (node.form != Node::Form::nothing && !node.is_map()) {
    findings.error(node, "`" + owner + "` takes a map of options, found " + std::string(node.form_name()),
                   known.empty() ? "" : one_of(known));
    options.sound_ = false;
    return options;
  }
  for (const auto& entry : node.entries) {
    auto spec =
        std::find_if(specs.begin(), specs.end(), [&](const OptionSpec& s) { return entry.key == s.name; });
    if (spec == specs.end()) {
      if (std::find(ignored.begin(), ignored.end(), entry.key) != ignored.end()) continue;
      std::vector<std::string> all = known;
      all.insert(all.end(), ignored.begin(), ignored.end());
      std::string near = did_you_mean(entry.key, all);
      findings.error(entry.key_place, entry.key.size(),
                     "unknown option `" + entry.key + "` of `" + owner + "`",
                     near.empty() ? one_of(all) : near);
      continue;
    }
    Held fresh;
    fresh.type = spec->type;
    fresh.section = options.held_[spec->name].section;
    fresh.given = true;
    if (parse(*spec, entry.value, fresh, findings)) {
      fresh.node = entry.value;
      options.held_[spec->name] = std::move(fresh);
    } else {
      options.sound_ = false;
      options.held_[spec->name].given = true;
      options.held_[spec->name].node = entry.value;
    }
  }
  for (const OptionSpec& spec : specs)
    if (spec.required && node.find(spec.name) == nullptr) {
      options.sound_ = false;
      findings.error(node.place, 1, "`" + owner + "` needs the option `" + spec.name + "`: " + spec.text);
    }
  return options;
}

const Options::Held& Options::held(std::string_view name) const {
  auto it = held_.find(name);
  assert(it != held_.end() && "an option that its table does not declare");
  return it->second;
}
bool Options::given(std::string_view name) const { return held(name).given; }
bool Options::same(std::string_view name, const Options& other) const {
  const Held &a = held(name), &b = other.held(name);
  if (a.text != b.text || a.texts != b.texts || a.number != b.number || a.numbers != b.numbers) return false;
  for (std::size_t i = 0; i < a.section.size(); ++i)
    for (const auto& [inner, held] : a.section[i].held_)
      if (!a.section[i].same(inner, b.section[i])) return false;
  return true;
}
Node Options::where(std::string_view name) const {
  if (held(name).given) return held(name).node;
  Node whole;
  whole.place = place_;
  return whole;
}
const Node* Options::node(std::string_view name) const {
  return held(name).given ? &held(name).node : nullptr;
}
const std::string& Options::text(std::string_view name) const { return held(name).text; }
const std::vector<std::string>& Options::texts(std::string_view name) const { return held(name).texts; }
std::int64_t Options::number(std::string_view name) const { return held(name).number; }
const std::vector<std::int64_t>& Options::numbers(std::string_view name) const { return held(name).numbers; }
std::vector<std::string> Options::secrets() const {
  std::vector<std::string> all;
  for (const auto& [name, h] : held_) {
    if (h.type == OptionType::secret && h.given) all.push_back(h.text);
    if (h.type == OptionType::secrets) all.insert(all.end(), h.texts.begin(), h.texts.end());
    for (const Options& o : h.section)
      for (std::string& inner : o.secrets()) all.push_back(std::move(inner));
  }
  return all;
}
std::vector<std::pair<std::string, std::string>> Options::named_secrets(std::string_view name) const {
  const Held& h = held(name);
  std::vector<std::pair<std::string, std::string>> all;
  for (std::size_t i = 0; i < h.texts.size(); ++i) all.emplace_back(h.node.entries[i].key, h.texts[i]);
  return all;
}
bool Options::flag(std::string_view name) const { return held(name).number != 0; }
const Node& Options::tree(std::string_view name) const { return held(name).node; }
const Options& Options::section(std::string_view name) const { return held(name).section.at(0); }

}  // namespace dingle

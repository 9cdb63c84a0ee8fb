// The JSON Schema and the reference page of the configuration, from the tables of options.
#include "agent/configuration.h"
#include "agent/json.h"
#include "agent/option_schema.h"

namespace dingle {
namespace {

Json schema_of(const std::vector<OptionSpec>& options);
Json schema_of(const OptionSpec& o);

Json schema_of(const OptionSpec& o) {
  Json s;
  auto one_or_list = [](Json item) { return Json{{"oneOf", {item, {{"type", "array"}, {"items", item}}}}}; };
  switch (o.type) {
    case OptionType::text:
    case OptionType::template_text:
    case OptionType::condition:
    case OptionType::zone: s = {{"type", {"string", "number", "boolean"}}}; break;
    case OptionType::field: s = {{"type", "string"}, {"pattern", "^[A-Za-z_][A-Za-z0-9_.-]*$"}}; break;
    case OptionType::texts:
    case OptionType::templates:
    case OptionType::fields:
    case OptionType::field_patterns:
    case OptionType::references: s = one_or_list({{"type", "string"}}); break;
    case OptionType::routes: {
      const Json route{
          {"oneOf",
           {{{"type", "string"}},
            {{"type", "object"}, {"additionalProperties", {{"type", "string"}}}, {"minProperties", 1}}}}};
      s = one_or_list(route);
      break;
    }
    case OptionType::integer:
      s = {{"type", "integer"}, {"minimum", o.least}};
      if (o.most != std::numeric_limits<std::int64_t>::max()) s["maximum"] = o.most;
      break;
    case OptionType::number64: s = {{"type", "integer"}, {"minimum", 0}}; break;
    case OptionType::boolean: s = {{"type", "boolean"}}; break;
    case OptionType::size:
      s = {{"type", {"string", "integer"}}, {"pattern", "^[0-9]+(B|KiB|MiB|GiB|TiB|KB|kB|MB|GB|TB)?$"}};
      break;
    case OptionType::duration: s = {{"type", "string"}, {"pattern", "^[0-9]+(ns|us|ms|s|m|h|d|w)$"}}; break;
    case OptionType::moment: s = {{"type", "string"}}; break;
    case OptionType::choice: s = {{"enum", o.choices}}; break;
    case OptionType::values:
    case OptionType::table:
      s = {{"type", "object"}, {"additionalProperties", {{"type", {"string", "number", "boolean"}}}}};
      break;
    case OptionType::template_lists:
      s = {{"type", "object"}, {"additionalProperties", one_or_list({{"type", "string"}})}};
      break;
    case OptionType::renames: s = {{"type", "object"}, {"additionalProperties", {{"type", "string"}}}}; break;
    case OptionType::section: s = schema_of(o.section); break;
    case OptionType::columns:
      s = {{"type", "object"},
           {"additionalProperties",
            {{"oneOf",
              {{{"type", "string"}},
               {{"type", "object"},
                {"properties", {{"field", {{"type", "string"}}}, {"type", {{"type", "string"}}}}},
                {"required", {"type"}},
                {"additionalProperties", false}}}}}}};
      break;
    case OptionType::secrets: {
      OptionSpec one{.name = ""};
      one.type = OptionType::secret;
      s = {{"type", "object"}, {"additionalProperties", schema_of(one)}};
      break;
    }
    case OptionType::secret:
      s = {{"type", "object"},
           {"properties", {{"env", {{"type", "string"}}}, {"file", {{"type", "string"}}}}},
           {"additionalProperties", false},
           {"minProperties", 1},
           {"maxProperties", 1}};
      break;
    case OptionType::integers: s = one_or_list({{"type", "integer"}}); break;
  }
  if (*o.text) s["description"] = o.text;
  add_default(s, o);
  return s;
}

Json schema_of(const std::vector<OptionSpec>& options) {
  Json s{{"type", "object"}, {"additionalProperties", false}, {"properties", Json::object()}};
  for (const OptionSpec& o : options) {
    s["properties"][o.name] = schema_of(o);
    if (o.required) s["required"].push_back(o.name);
  }
  return s;
}

Json schema_of(const ComponentSpec& spec) {
  Json s = schema_of(spec.options);
  s["description"] = spec.text;
  return s;
}

// An object of common options and exactly one of the kinds.
template <class Kinds>
Json component_schema(const std::vector<OptionSpec>& common, const Kinds& kinds) {
  Json s = schema_of(common);
  Json one_of = Json::array();
  for (const auto* kind : kinds) {
    s["properties"][kind->spec.name] = schema_of(kind->spec);
    one_of.push_back({{"required", {kind->spec.name}}});
  }
  s["oneOf"] = one_of;
  return s;
}

std::string in_words(const OptionSpec& o) {
  if (o.type != OptionType::choice) return option_type_name(o.type);
  std::string text;
  for (const std::string& choice : o.choices) text += (text.empty() ? "`" : ", `") + choice + "`";
  return text;
}

std::string cell(std::string text) {
  for (std::size_t i = 0; (i = text.find('|', i)) != std::string::npos; i += 2) text.insert(i, "\\");
  return text;
}

void table(const std::vector<OptionSpec>& options, std::string& out, const std::string& prefix = "") {
  if (prefix.empty()) {
    if (options.empty()) {
      out += "No options.\n\n";
      return;
    }
    out += "| option | takes | default | meaning |\n|---|---|---|---|\n";
  }
  for (const OptionSpec& o : options) {
    const std::string name = prefix + o.name;
    out += "| `" + name + "` | " + cell(in_words(o)) + " | " +
           (o.required    ? "required"
            : *o.fallback ? "`" + std::string(o.fallback) + "`"
                          : "") +
           " | " + cell(o.text) + " |\n";
    if (o.type == OptionType::section) table(o.section, out, name + ".");
  }
  if (prefix.empty()) out += "\n";
}

void component(const ComponentSpec& spec, std::string& out) {
  out += "### `" + spec.name + "`\n\n" + spec.text + "\n\n";
  if (*spec.example) out += "```yaml\n" + std::string(spec.example) + "\n```\n\n";
  table(spec.options, out);
}

}  // namespace

std::string configuration_schema() {
  Json pattern = schema_of(pattern_options());
  pattern["oneOf"] = Json::array({{{"required", {"regex"}}}, {{"required", {"template"}}}});
  Json steps = Json::array();
  for (const StepKind& kind : step_kinds()) {
    bool required = false;
    for (const OptionSpec& o : kind.spec.options) required = required || o.required;
    steps.push_back({{"type", "object"},
                     {"additionalProperties", false},
                     {"required", {kind.spec.name}},
                     {"properties", {{kind.spec.name, schema_of(kind.spec)}}}});
    if (!required) steps.push_back({{"const", kind.spec.name}});
  }
  Json pipeline = schema_of(pipeline_options());
  pipeline["properties"]["steps"] = {{"type", "array"},
                                     {"items", {{"oneOf", steps}}},
                                     {"description", "What happens to each event, in this order."}};
  auto map_of = [](Json schema) {
    return Json{{"type", "object"}, {"additionalProperties", std::move(schema)}};
  };
  Json root{{"$schema", "https://json-schema.org/draft/2020-12/schema"},
            {"title", "Dingle configuration"},
            {"type", "object"},
            {"additionalProperties", false},
            {"required", {"version", "sources"}}};
  root["properties"] = {
      {"version", {{"const", 1}}},
      {"server", schema_of(server_options())},
      {"patterns", map_of(pattern)},
      {"tables", map_of(schema_of(table_options()))},
      {"sources", map_of(component_schema(source_options(), source_kinds()))},
      {"pipelines", map_of(pipeline)},
      {"destinations", map_of(component_schema(destination_options(), destination_kinds()))}};
  return dump(root, 2) + "\n";
}

std::string configuration_reference() {
  std::string out =
      "# Configuration\n\n"
      "This page is made from the program's own tables by `dingle schema --reference`; `dingle schema` "
      "prints the JSON Schema of the same.\n\n"
      "A configuration is one YAML file. `dingle check FILE` reads it without running it and names every "
      "mistake with its line and column; `dingle reload` gives it to a running `dingled`, "
      "which takes it only if it is sound. Sizes are written `64KiB`, `1GiB`; durations `200ms`, `6h`, "
      "`30d`.\n\n"
      "```yaml\nversion: 1\nsources:\n  gate:\n    files: { paths: [/var/log/skerry/gate*.log] }\n    "
      "resource: { service.name: ticket-gate }\npipelines:\n  gate:\n    from: [gate]\n    steps:\n"
      "      - parse: { templates: ['{client.address:ip} {:word} {user:word} [{at:clf_time}] {message}'] }\n "
      "     - time: { field: at }\n    to: [operations]\ndestinations:\n  operations:\n    index: { name: "
      "'gate-{day}', keep: { age: 30d } }\n```\n\n"
      "## `version`\n\nThe version of this format: `1`.\n\n## `server`\n\n";
  table(server_options(), out);
  out += "## `patterns`\n\nNamed patterns for templates: a map of names to\n\n";
  table(pattern_options(), out);
  out +=
      "One of `regex` and `template` is needed. `dingle patterns` lists the built-in ones.\n\n## `tables`\n\n"
      "Tables for `lookup`, and for conditions such as `event.name in table noise`: a map of names to\n\n";
  table(table_options(), out);
  out +=
      "An edit of the file is live within a second. While a file cannot be read, is being written, or is not "
      "sound, the table "
      "as it was stays, and a problem says so with the line.\n\n## "
      "`sources`\n\nA map of names to sources. Each has one kind, and may have\n\n";
  table(source_options(), out);
  for (const SourceKind* kind : source_kinds()) component(kind->spec, out);
  out += "## `pipelines`\n\nA map of names to\n\n";
  table(pipeline_options(), out);
  out +=
      "and `steps`, a list: each item is a map with one key, the step's name, and its options as "
      "value.\n\n## Steps\n\n";
  for (const StepKind& kind : step_kinds()) component(kind.spec, out);
  out += "## `destinations`\n\nA map of names to destinations. Each has one kind, and may have\n\n";
  table(destination_options(), out);
  for (const DestinationKind* kind : destination_kinds()) component(kind->spec, out);
  while (out.ends_with("\n\n")) out.pop_back();
  return out;
}

std::string pattern_reference() {
  const PatternLibrary library;
  std::string out =
      "# Patterns\n\nThe built-in patterns of templates. This page is what `dingle patterns --reference` "
      "prints; "
      "[templates.md](templates.md) says how patterns are used.\n";
  auto cell = [](const std::string& text) {
    std::string safe = "`` ";
    for (char c : text) safe += c == '|' ? std::string("\\|") : std::string(1, c);
    return safe + " ``";
  };
  auto cells = [&](const std::vector<std::string>& texts) {
    std::string all;
    for (const std::string& text : texts) all += (all.empty() ? "" : "<br>") + cell(text);
    return all;
  };
  struct Heading {
    PatternForm form;
    const char* title;
    const char* text;
  };
  for (const Heading& part :
       {Heading{PatternForm::lexeme, "Typed patterns",
                "Each takes the longest valid text of its kind; the value has the type."},
        Heading{
            PatternForm::fields, "Patterns with fields",
            "`{name:...}` keeps everything as one value, `{name.:...}` each field with the prefix, `{:...}` "
            "each by its own "
            "name (`endpoint` and `uri` keep nothing then)."},
        Heading{PatternForm::text, "Text patterns",
                "Bytes of a class, up to the first place where something that may follow starts. A range in "
                "parentheses, "
                "`{code:word(2..8)}`, limits the length in bytes."},
        Heading{PatternForm::regex, "Regular expressions", "One call of the regex engine each."},
        Heading{PatternForm::template_text, "Templates",
                "Their fields come along, with a prefix if there is one."}}) {
    out += std::string("\n## ") + part.title + "\n\n" + part.text + "\n\n";
    const bool source = part.form == PatternForm::regex || part.form == PatternForm::template_text;
    const bool parameters = part.form == PatternForm::lexeme || part.form == PatternForm::fields;
    out += std::string("| pattern | type | matches |") +
           (source       ? " definition |"
            : parameters ? " parameters |"
                         : "") +
           " for instance | but not |\n|---|---|---|" + (source || parameters ? "---|" : "") + "---|---|\n";
    for (const Pattern* p : library.in_order()) {
      if (p->form != part.form) continue;
      out += "| `" + p->name + "` | " + std::string(kind_name(p->kind)) + " | " + p->description + " | ";
      if (source) out += cell(p->source) + " | ";
      if (parameters) {
        const std::string text = p->lexeme ? p->lexeme->parameters : p->fields->parameters;
        std::string safe;
        for (char c : text) safe += c == '|' ? std::string("\\|") : std::string(1, c);
        out += safe + " | ";
      }
      out += cells(p->examples) + " | " + cells(p->counter_examples) + " |\n";
    }
  }
  return out;
}

}  // namespace dingle

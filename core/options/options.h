// Options of components, declared once. From one table of OptionSpec come parsing, checking with places and
// suggestions, the JSON Schema and the reference page.
//
//   const ComponentSpec kTime{"time", "Takes the event's time from a field.", "time: { field: at }",
//                             {{.name = "field", .type = OptionType::field, .text = "The field that holds
//                             it.", .required = true}}};
//   Options o = Options::read(kTime, node, findings);
//   o.text("field")
#pragma once

#include <cstdint>
#include <functional>
#include <limits>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "core/options/findings.h"
#include "core/options/node.h"

namespace dingle {

enum class OptionType {
  text,            // any text
  texts,           // a list of texts, or one
  integer,         // a whole number
  number64,        // one from 0 to 2^64-1; `number` answers its bits
  boolean,         // true or false
  size,            // 64KiB, 1GiB; bytes
  duration,        // 200ms, 6h; nanoseconds
  moment,          // a time, or how long ago (core/time/instant.h); kept as text
  choice,          // one of `choices`
  field,           // a field's name
  fields,          // a list of fields' names, or one
  field_patterns,  // the same, where `*` in a name stands for any text
  templates,       // a list of templates, or one
  template_lists,  // a map of texts to lists of templates
  template_text,
  condition,   // a search condition
  zone,        // a time zone's name
  values,      // a map of fields to values
  renames,     // a map of fields to fields
  table,       // a map of texts to values
  references,  // a list of names of other components, or one
  routes,      // the same, where a name may have a condition: [operations, { alerts: "score >= 80" }]
  secret,      // { env: NAME } or { file: PATH }: what it names is read by whoever uses it
  secrets,     // a map of names to secrets
  integers,    // a list of whole numbers, or one
  columns,     // a map of columns to types, or to maps with `field` and `type`
  section,     // a map with options of its own
};

struct OptionSpec {
  const char* name;
  OptionType type = OptionType::text;
  const char* fallback = "";  // as it would be written; "" : none
  const char* text = "";      // for the reference page and the schema
  bool required = false;
  std::vector<std::string> choices = {};
  std::vector<OptionSpec> section = {};
  std::int64_t least = 0;  // integer, size, duration: smallest value allowed
  std::int64_t most = std::numeric_limits<std::int64_t>::max();  // and the largest
};

struct ComponentSpec {
  std::string name;
  const char* text = "";
  const char* example = "";  // YAML
  std::vector<OptionSpec> options;
};

// The options of one component as read: typed, complete with fallbacks. Wrong ones were reported and hold
// their fallback.
class Options {
 public:
  // Unknown keys, wrong types and units, missing required options go to `findings`. `ignored`: keys that
  // another reads.
  static Options read(const std::vector<OptionSpec>& specs, const Node& node, const std::string& owner,
                      Findings& findings, const std::vector<std::string>& ignored = {});

  bool sound() const { return sound_; }           // nothing required is missing, nothing given is wrong
  bool given(std::string_view name) const;        // written by the user
  const Node* node(std::string_view name) const;  // where it was written; nullptr if it was not
  Place place() const { return place_; }          // of the whole component
  // For a finding about an option: where it was written, else the place of the whole component.
  Node where(std::string_view name) const;
  const std::string& text(std::string_view name) const;
  const std::vector<std::string>& texts(std::string_view name) const;
  std::int64_t number(std::string_view name) const;  // integer, size (bytes), duration (ns)
  bool flag(std::string_view name) const;
  const std::vector<std::int64_t>& numbers(std::string_view name) const;  // integers
  // Where the secrets among the options, and in sections, are: "env:NAME", "file:PATH". `text` answers one.
  std::vector<std::string> secrets() const;
  // Of a map of secrets: name and place, as above.
  std::vector<std::pair<std::string, std::string>> named_secrets(std::string_view name) const;
  const Node& tree(
      std::string_view name) const;  // values, renames, template_lists; an empty node if not given
  const Options& section(std::string_view name) const;
  // Whether an option, with all that is in it, is the same there.
  bool same(std::string_view name, const Options& other) const;
  // Replaces a text option, for what a command line says instead of the file.
  void override_text(std::string_view name, std::string value) {
    held_.find(name)->second.text = std::move(value);
  }

 private:
  struct Held {
    OptionType type = OptionType::text;
    std::string text;
    std::vector<std::string> texts;
    std::int64_t number = 0;
    std::vector<std::int64_t> numbers;
    Node node;
    bool given = false;
    std::vector<Options> section;  // one
  };
  const Held& held(std::string_view name) const;  // the name must be declared
  static bool parse(const OptionSpec& spec, const Node& node, Held& held, Findings& findings);
  std::map<std::string, Held, std::less<>> held_;
  Place place_;
  bool sound_ = true;
};

// "64KiB", "1GiB", "10MB", "512": bytes. Nothing if it is none.
bool parse_size(std::string_view text, std::int64_t& bytes);
std::string format_size(std::uint64_t bytes);   // "1.4 MiB"
const char* option_type_name(OptionType type);  // for people: "a duration such as 200ms or 6h"

}  // namespace dingle

#include "agent/destinations/field_choice.h"

#include <algorithm>

#include "core/names.h"

namespace dingle {

std::vector<OptionSpec> field_choice_options(const char* what_fields_takes) {
  return {{.name = "fields", .type = OptionType::fields, .text = what_fields_takes},
          {.name = "omit", .type = OptionType::fields, .text = "All but these."},
          {.name = "rename", .type = OptionType::renames, .text = "Other names for some: `name: new_name`."}};
}

void check_field_choice(const Options& section, Findings& findings) {
  if (section.given("fields") && section.given("omit"))
    findings.error(*section.node("omit"), "`fields` and `omit` do not go together", "keep one of them");
  std::map<std::string, std::string> given;
  for (const Node::Entry& e : section.tree("rename").entries)
    if (const auto [it, added] = given.emplace(e.value.scalar, e.key); !added)
      findings.error(e.key_place, e.key.size(),
                     "`" + it->second + "` and `" + e.key + "` are both renamed to `" + e.value.scalar + "`",
                     "give one of them another name");
}

OptionSpec value_choice_option() {
  return {.name = "events",
          .type = OptionType::section,
          .text =
              "What is kept of events. Their times, and which pipeline, template and configuration made "
              "them, always are.",
          .section = field_choice_options(
              "Only these fields; without `body` among them the line itself is not kept. All, if missing.")};
}

void check_value_choice(const Options& section, Findings& findings) {
  check_field_choice(section, findings);
  auto stays = [&](const std::string& name) {
    const FieldId id = field_id(name);
    return id == names::timestamp || id == names::observed_timestamp || id == names::pipeline ||
           id == names::template_number || id == names::configuration;
  };
  for (const std::string& name : section.texts("omit"))
    if (stays(name)) findings.error(*section.node("omit"), "`" + name + "` is always kept here");
  for (const Node::Entry& e : section.tree("rename").entries)
    if (stays(e.key) || field_id(e.key) == names::body)
      findings.error(e.key_place, e.key.size(), "`" + e.key + "` has the same name everywhere");
}

FieldChoice::FieldChoice(const Options& section) {
  for (const std::string& name : section.texts("fields")) fields_.insert(field_id(name));
  for (const std::string& name : section.texts("omit")) omitted_.insert(field_id(name));
  for (const Node::Entry& e : section.tree("rename").entries)
    renamed_[field_id(e.key)] = field_id(e.value.scalar);
}

// Appends to `room_`, which has the capacity.
std::span<const Field> FieldChoice::chosen(std::span<const Field> all) {
  const std::size_t begin = room_.size();
  auto add = [&](FieldId name, const Value& value) {
    const auto same = [&](const Field& f) { return f.name == name; };
    if (std::none_of(room_.begin() + static_cast<std::ptrdiff_t>(begin), room_.end(), same))
      room_.push_back({name, value});
  };
  if (!renamed_.empty())
    for (const Field& f : all)
      if (const auto it = renamed_.find(f.name); it != renamed_.end() && keeps(f.name))
        add(it->second, f.value);
  for (const Field& f : all)
    if (keeps(f.name) && !renamed_.count(f.name)) add(f.name, f.value);
  return std::span(room_).subspan(begin);
}

void FieldChoice::forget() {
  std::vector<DeliveryEvent>().swap(events_);
  std::vector<Field>().swap(room_);
}

std::span<const DeliveryEvent> FieldChoice::of(std::span<const DeliveryEvent> events) {
  if (fields_.empty() && omitted_.empty() && renamed_.empty()) return events;
  events_.assign(events.begin(), events.end());
  room_.clear();
  std::size_t most = 0;
  for (const DeliveryEvent& e : events) most += e.event.fields.size() + e.event.resource.size();
  room_.reserve(most);
  std::span<const Field> resource, of_resource;
  for (DeliveryEvent& e : events_) {
    if (!keeps(names::body)) e.event.body = {};
    e.event.fields = chosen(e.event.fields);
    if (e.event.resource.data() != resource.data() || e.event.resource.size() != resource.size()) {
      resource = e.event.resource;
      of_resource = chosen(resource);
    }
    e.event.resource = of_resource;
  }
  return events_;
}

}  // namespace dingle

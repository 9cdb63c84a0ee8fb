// each: one event for each item of a list.
#include "core/json_fields.h"
#include "core/steps/field_list.h"
#include "core/steps/step.h"

namespace dingle {
namespace {

const ComponentSpec kEachSpec{
    "each",
    "Makes one event for each item of a list. Each carries the item, in the field `as`: members of an item "
    "that is an object "
    "become fields with that name and a dot before theirs. Its body is the item, too, and it has the fields "
    "of the event that "
    "held the list which `copy` names. In `dingle.part` stands the item's place, from 1. An event without "
    "the field passes as it "
    "is; what is no list, or a longer one than `most`, fails. Costs a copy of the chosen fields for each "
    "item.",
    "each: { field: scans, as: scan, copy: [ship, gate.*] }",
    {{.name = "field", .type = OptionType::field, .text = "The list.", .required = true},
     {.name = "as", .type = OptionType::field, .fallback = "item", .text = "The field that holds the item."},
     {.name = "copy",
      .type = OptionType::field_patterns,
      .fallback = "*",
      .text = "Which other fields each of them has; `*` in a name stands for any text."},
     {.name = "empty",
      .type = OptionType::choice,
      .fallback = "keep",
      .text = "What becomes of an event with an empty list: it passes without it, or is dropped.",
      .choices = {"keep", "drop"}},
     {.name = "most",
      .type = OptionType::integer,
      .fallback = "1000",
      .text = "How many items a list may have.",
      .least = 1,
      .most = 100'000}}};

class Each final : public Step {
 public:
  FieldId field = kNoField, as = kNoField;
  std::string prefix;  // of members
  std::unique_ptr<FieldList> copy;
  bool drop_empty = false;
  std::size_t most = 0;

  void follow(StepFields& fields) const override {
    fields.reads("field", field_name(field));
    fields.there.take_away(field_name(field));
    fields.there.add(field_name(as));
    fields.there.add("dingle.part");
    fields.there.add_any(prefix);
  }
  void run(Batch& batch, StepTally& tally) const override {
    std::vector<Event> made;
    made.reserve(batch.events.size());
    std::vector<std::string_view> items;
    for (Event& event : batch.events) {
      if (!takes(batch, event)) {
        made.push_back(event);
        continue;
      }
      ++tally.in;
      const Value list = batch.get(event, field);
      items.clear();
      std::string_view why;
      if (!list.absent() && !items_of(list, items, why)) {
        fail(batch, event, tally, why);
        made.push_back(event);
      } else if (list.absent() || items.empty()) {
        if (!list.absent() && drop_empty) {
          event.dropped_by = number;
          ++tally.dropped;
        } else {
          if (!list.absent()) event.erase(batch.arena, field);
          ++tally.out;
        }
        made.push_back(event);
      } else {
        tally.created += items.size() - 1;
        tally.out += items.size();
        for (std::size_t i = 0; i < items.size(); ++i)
          made.push_back(one(batch, event, items[i], i + 1, tally));
      }
    }
    batch.events = std::move(made);
  }

 private:
  bool items_of(const Value& list, std::vector<std::string_view>& items, std::string_view& why) const {
    why = "the field is no list";
    if (!list.is_textual() || list.as_text().empty() || list.as_text().front() != '[') return false;
    return json_items(list.as_text(), most, items, why);
  }
  Event one(Batch& batch, const Event& parent, std::string_view item, std::size_t place,
            StepTally& tally) const {
    Event event = parent;
    event.fields = nullptr;
    event.field_count = event.field_capacity = 0;
    for (const Field& f : parent.all())
      if (f.name != field && copy->has(f.name)) event.set(batch.arena, f.name, f.value);
    event.body = item;
    std::vector<Field> members;
    JsonCounts counts;
    if (item.front() == '{' && json_members(item, {prefix, 8}, batch.arena, members, counts).empty()) {
      tally.fields_left_out += counts.unnamed + batch.take(event, members);
      tally.values_as_text += counts.as_text;
    } else {
      const Value value = json_value(item, batch.arena);
      if (!value.absent()) event.set(batch.arena, as, value);
      if (value.kind() == Kind::text) event.body = value.as_text();
    }
    event.set(batch.arena, names::part, Value::integer(static_cast<std::int64_t>(place)));
    return event;
  }
};

std::unique_ptr<Step> make_each(const StepMaking& m) {
  auto step = std::make_unique<Each>();
  const std::string& as = m.options.text("as");
  if (as == "body" || !writable_field(m, m.options.where("as"), as)) {
    if (as == "body")
      m.findings.error(m.options.where("as"), "the body is the item's text in any case: `as` names a field",
                       "");
    return nullptr;
  }
  step->field = field_id(m.options.text("field"));
  step->as = field_id(as);
  step->prefix = as + ".";
  step->copy = std::make_unique<FieldList>(m.options.texts("copy"));
  step->drop_empty = m.options.text("empty") == "drop";
  step->most = static_cast<std::size_t>(m.options.number("most"));
  return step;
}

const StepRegistration each_step({kEachSpec, make_each});

}  // namespace
}  // namespace dingle

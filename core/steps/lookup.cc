// lookup: fields from a table.
#include <algorithm>

#include "core/nearest.h"
#include "core/steps/step.h"
#include "core/steps/written_value.h"
#include "core/tables/table.h"

namespace dingle {
namespace {

const ComponentSpec kLookupSpec{
    "lookup",
    "Finds the row of a table whose key is the value of a field, and gives the event fields from it. The "
    "table is one of the "
    "configuration's `tables`; an edit of its file is live within a second. A value that has no row is "
    "counted as missed; so is "
    "an event without the field. Costs one look-up by hash an event.",
    "lookup: { table: ships, by: mmsi, take: { ship.name: name, ship.line: line }, otherwise: { ship.name: "
    "unknown } }",
    {{.name = "table", .type = OptionType::text, .text = "The table's name.", .required = true},
     {.name = "by", .type = OptionType::field, .text = "The field that is looked up.", .required = true},
     {.name = "take",
      .type = OptionType::renames,
      .text = "Fields, and the columns that they are from. All columns under their own names, if it is not "
              "given."},
     {.name = "otherwise", .type = OptionType::values, .text = "Fields and values for what has no row."}}};

class Lookup final : public Step {
 public:
  std::shared_ptr<TableHandle> table;
  FieldId by = kNoField;
  std::vector<std::pair<FieldId, std::string>> take;  // and their columns; empty: all
  std::vector<std::pair<FieldId, Value>> otherwise;   // texts are views into `written`
  Node written;

  void follow(StepFields& fields) const override {
    fields.reads("by", field_name(by));
    for (const auto& [field, column] : take) fields.there.add(field_name(field));
    for (const auto& [field, value] : otherwise) fields.there.add(field_name(field));
    if (!take.empty()) return;
    const auto now = table->now();
    if (!now && table->form == TableHandle::Form::rows) fields.there.add_any();
    for (const std::string& column : now ? now->columns() : table->noted_columns) fields.there.add(column);
  }
  void run(Batch& batch, StepTally& tally) const override {
    const std::shared_ptr<const Table> now = table->now();
    std::vector<std::pair<FieldId, std::size_t>> columns;
    if (now) columns = columns_of(*now);
    std::string holder;
    Table::Found found;
    each(batch, tally, [&](Event& event) {
      ++tally.out;
      const Value key = batch.get(event, by);
      const std::string_view text =
          key.is_textual() ? key.as_text() : std::string_view(holder = key.to_string());
      const auto row = now && !key.absent() ? now->find(text, found) : std::span<const Value>();
      if (row.empty()) {
        ++tally.missed;
        for (const auto& [field, value] : otherwise) set(batch, event, field, value);
        return;
      }
      for (const auto& [field, column] : columns)
        if (!row[column].absent()) set(batch, event, field, row[column]);
    });
  }

 private:
  // The table may go before the event does.
  static void set(Batch& batch, Event& event, FieldId field, const Value& value) {
    event.set(batch.arena, field,
              value.is_textual() ? Value::from_text(value.kind(), batch.arena.copy(value.as_text())) : value);
  }
  std::vector<std::pair<FieldId, std::size_t>> columns_of(const Table& now) const {
    std::vector<std::pair<FieldId, std::size_t>> columns;
    const auto& names = now.columns();
    for (std::size_t i = 0; i < names.size(); ++i) {
      if (take.empty()) columns.emplace_back(field_id(names[i]), i);
      for (const auto& [field, column] : take)
        if (column == names[i]) columns.emplace_back(field, i);
    }
    return columns;
  }
};

std::unique_ptr<Step> make_lookup(const StepMaking& m) {
  auto step = std::make_unique<Lookup>();
  auto table = TableScope::find(m.options.text("table"));
  if (!table) {
    m.findings.error(m.options.where("table"), table.problem().message, table.problem().hint);
    return nullptr;
  }
  step->table = *table;
  if (step->table->form == TableHandle::Form::places) {
    m.findings.error(m.options.where("table"), "`" + step->table->name() + "` is a database of places",
                     "locate: { table: " + step->table->name() + ", by: " + m.options.text("by") + " }");
    return nullptr;
  }
  step->by = field_id(m.options.text("by"));
  bool ok = true;
  const auto now = step->table->now();
  const std::vector<std::string>& known = now ? now->columns() : step->table->noted_columns;
  for (const auto& entry : m.options.tree("take").entries) {
    Node key;
    key.place = entry.key_place;
    key.scalar = entry.key;
    ok = writable_field(m, key, entry.key) && ok;
    step->take.emplace_back(field_id(entry.key), entry.value.scalar);
    if (!known.empty() && std::find(known.begin(), known.end(), entry.value.scalar) == known.end()) {
      const std::string near = did_you_mean(entry.value.scalar, known);
      m.findings.error(entry.value,
                       "the table `" + step->table->name() + "` has no column `" + entry.value.scalar + "`",
                       near.empty() ? one_of(known) : near);
      ok = false;
    }
  }
  step->written = m.options.tree("otherwise");
  for (const auto& entry : step->written.entries) {
    Node key;
    key.place = entry.key_place;
    key.scalar = entry.key;
    ok = writable_field(m, key, entry.key) && ok;
    step->otherwise.emplace_back(field_id(entry.key), written_value(entry.value));
  }
  if (!ok) return nullptr;
  return step;
}

const StepRegistration lookup_step({kLookupSpec, make_lookup});

}  // namespace
}  // namespace dingle

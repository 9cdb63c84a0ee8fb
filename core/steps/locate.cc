// locate: where an address is, from a database of places.
#include <algorithm>

#include "core/nearest.h"
#include "core/steps/step.h"
#include "core/tables/places.h"

namespace dingle {
namespace {

const ComponentSpec kLocateSpec{
    "locate",
    "Finds out where an address is, from a database of places: one of the configuration's `tables` with "
    "`format: mmdb`. Without "
    "`take` it gives the fields of the OpenTelemetry conventions for places: `geo.continent.code`, "
    "`geo.country.iso_code`, "
    "`geo.region.iso_code` (ISO 3166-2), `geo.locality.name`, `geo.postal_code`, `geo.location.lat` and "
    "`geo.location.lon`. An address "
    "of which nothing is known is counted as missed; so is an event without one. A new file is live within a "
    "second. Costs about a "
    "microsecond an event.",
    "locate: { table: places, by: client.address, take: { geo.country.iso_code: country.iso_code, town: "
    "city.names.en } }",
    {{.name = "table", .type = OptionType::text, .text = "The table's name.", .required = true},
     {.name = "by", .type = OptionType::field, .text = "The field that holds the address.", .required = true},
     {.name = "take",
      .type = OptionType::renames,
      .text = "Fields, and the ways to their values in the database: names of members and numbers of items, "
              "with dots between."}}};

// Of the conventions; of two ways, a dash stands between what is at their ends.
struct Usual {
  const char *field, *way, *second;
};
constexpr Usual kUsual[] = {{"geo.continent.code", "continent.code", ""},
                            {"geo.country.iso_code", "country.iso_code", ""},
                            {"geo.region.iso_code", "country.iso_code", "subdivisions.0.iso_code"},
                            {"geo.locality.name", "city.names.en", ""},
                            {"geo.postal_code", "postal.code", ""},
                            {"geo.location.lat", "location.latitude", ""},
                            {"geo.location.lon", "location.longitude", ""}};

PlaceTable::Path path_of(std::string_view text) {
  PlaceTable::Path path;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find('.', at), text.size());
    path.emplace_back(text.substr(at, end - at));
    at = end + 1;
  }
  return path;
}

class Locate final : public Step {
 public:
  std::shared_ptr<TableHandle> table;
  FieldId by = kNoField;
  struct Taken {
    FieldId field = kNoField;
    std::size_t first = 0, second = 0;  // in `paths`
  };
  std::vector<Taken> taken;
  std::vector<PlaceTable::Path> paths;

  void take(FieldId field, std::string_view way, std::string_view second = "") {
    paths.push_back(path_of(way));
    const std::size_t first = paths.size() - 1;
    if (!second.empty()) paths.push_back(path_of(second));
    taken.push_back({field, first, paths.size() - 1});
  }
  void follow(StepFields& fields) const override {
    fields.reads("by", field_name(by));
    for (const Taken& t : taken) fields.there.add(field_name(t.field));
  }
  void run(Batch& batch, StepTally& tally) const override {
    const std::shared_ptr<const Table> now = table->now();
    const PlaceTable* places = now ? now->places() : nullptr;
    Table::Found found;
    each(batch, tally, [&](Event& event) {
      ++tally.out;
      const Value address = batch.get(event, by);
      const auto values = places != nullptr && address.is_textual()
                              ? places->find(address.as_text(), paths, found)
                              : std::span<const Value>();
      if (values.empty()) ++tally.missed;
      for (std::size_t i = 0; i < taken.size() && !values.empty(); ++i) set(batch, event, taken[i], values);
    });
  }

 private:
  static void set(Batch& batch, Event& event, const Taken& t, std::span<const Value> values) {
    const Value value = values[t.first], second = values[t.second];
    if (value.absent() || second.absent()) return;
    if (t.first != t.second) {
      const std::string both = value.to_string() + "-" + second.to_string();
      event.set(batch.arena, t.field, Value::text(batch.arena.copy(both)));
      return;
    }
    event.set(batch.arena, t.field,
              value.is_textual() ? Value::text(batch.arena.copy(value.as_text())) : value);
  }
};

std::unique_ptr<Step> make_locate(const StepMaking& m) {
  auto step = std::make_unique<Locate>();
  auto table = TableScope::find(m.options.text("table"));
  if (!table || (*table)->form != TableHandle::Form::places) {
    m.findings.error(
        m.options.where("table"),
        table ? "the table `" + (*table)->name() + "` is no database of places" : table.problem().message,
        "tables: { places: { file: PATH, format: mmdb } }");
    return nullptr;
  }
  step->table = *table;
  step->by = field_id(m.options.text("by"));
  const auto now = step->table->now();
  const std::vector<std::string> known = now ? now->places()->known_paths() : std::vector<std::string>();
  const auto& chosen = m.options.tree("take").entries;
  bool ok = true;
  for (const auto& entry : chosen) {
    Node key;
    key.place = entry.key_place;
    key.scalar = entry.key;
    ok = writable_field(m, key, entry.key) && ok;
    step->take(field_id(entry.key), entry.value.scalar);
    if (known.empty() || std::find(known.begin(), known.end(), entry.value.scalar) != known.end()) continue;
    const std::string near = did_you_mean(entry.value.scalar, known);
    m.findings.warning(
        entry.value,
        "no place that was looked at in `" + step->table->name() + "` has `" + entry.value.scalar + "`",
        near.empty() ? one_of(known) : near);
  }
  if (chosen.empty())
    for (const Usual& u : kUsual) step->take(field_id(u.field), u.way, u.second);
  if (!ok) return nullptr;
  return step;
}

const StepRegistration locate_step({kLocateSpec, make_locate});

}  // namespace
}  // namespace dingle

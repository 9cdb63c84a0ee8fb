// note: rows of a table from events. Memory: the table; by `k` and the key, its row.
#include <algorithm>
#include <atomic>

#include "core/nearest.h"
#include "core/steps/memory.h"
#include "core/tables/noted_table.h"

namespace dingle {
namespace {

constexpr std::size_t kLongestKey = 1024, kLongestRow = 4096;  // bytes
constexpr std::uint64_t kCharge = 24;                          // bytes an entry costs beside key and row

const ComponentSpec kNoteSpec{
    "note",
    "Fills a table from events: the event's fields become the row of its key, in the place of an earlier "
    "one. A `lookup` in any "
    "pipeline, and `in table`, see it with the next batch. The table stands in the configuration's `tables` "
    "with the columns that "
    "are `noted`, and one step fills it. What is known survives restarts and crashes. An event without the "
    "key field is counted as "
    "missed; a field that it lacks leaves its column empty. Costs one look-up an event, and memory of about "
    "2.5 times the rows.",
    "note: { table: logins, by: session.id, columns: { user: user.name, from: client.address }, longest: 12h "
    "}",
    {{.name = "table", .type = OptionType::text, .text = "The table's name.", .required = true},
     {.name = "by", .type = OptionType::field, .text = "The field whose value is the key.", .required = true},
     {.name = "columns",
      .type = OptionType::renames,
      .text = "The table's columns, and the fields that they are from. All under their own names, if it is "
              "not given."},
     {.name = "forget",
      .type = OptionType::condition,
      .text = "An event for which it holds takes its key's row away."},
     {.name = "longest",
      .type = OptionType::duration,
      .fallback = "24h",
      .text = "How long a row is remembered after it was last noted, by the clock; up to a sixteenth longer.",
      .least = 1'000'000'000},
     {.name = "most_keys",
      .type = OptionType::integer,
      .fallback = "100000",
      .text = "How many rows are remembered; a sixteenth of them, those noted longest ago, are forgotten "
              "early when there are more, "
              "and counted.",
      .least = 1,
      .most = 2'000'000},
     {.name = "most_bytes",
      .type = OptionType::size,
      .fallback = "32MiB",
      .text = "How many bytes of keys and rows; as for `most_keys`.",
      .least = 64 * 1024}}};

class Note final : public MemoryStep {
 public:
  std::shared_ptr<TableHandle> table;
  FieldId by = kNoField;
  std::vector<std::pair<std::string, FieldId>> columns;  // in the table's order; kNoField: it stays empty
  std::unique_ptr<Condition> forgets;
  std::int64_t longest = 0;
  std::uint64_t most_keys = 0, most_memory = 0;

  struct Rows final : Prepared {
    struct One {
      std::string key, row;  // no row: it is forgotten
    };
    std::vector<One> all;
  };
  class Memory final : public StepMemory {
   public:
    Memory(std::vector<std::string> names, std::int64_t age)
        : rows(std::make_shared<NotedTable>(std::move(names))), longest(age) {}
    const std::shared_ptr<NotedTable> rows;
    std::atomic<std::int64_t> longest;  // a changed step goes on with it while a turn is taken
    std::uint64_t bytes() const { return rows->bytes() + kCharge * rows->size(); }
    Size size() const override { return {rows->size(), bytes(), 0}; }
    std::int64_t next_due() const override {
      std::int64_t due = 0;
      return __builtin_add_overflow(rows->oldest(), longest + longest / 16, &due) ? kNever : due;
    }
  };

  void follow(StepFields& fields) const override {
    fields.reads("by", field_name(by));
    for (const auto& [column, field] : columns)
      if (field != kNoField) fields.reads("columns", field_name(field));
    if (forgets)
      for (const FieldId f : forgets->fields()) fields.reads("forget", field_name(f));
  }
  std::unique_ptr<StepMemory> begin() const override {
    return std::make_unique<Memory>(table->noted_columns, longest);
  }
  void show(StepMemory& memory) const override {
    static_cast<Memory&>(memory).longest = longest;
    table->put(static_cast<Memory&>(memory).rows);
  }
  const TableHandle* fills() const override { return table.get(); }
  bool restore(StepMemory& memory, std::string_view key, std::string_view value,
               std::int64_t) const override {
    return key.starts_with(kKey) && static_cast<Memory&>(memory).rows->restore(key.substr(1), value);
  }
  std::string meaning() const override {
    std::string text = "note 1 " + table->name() + " " + std::string(field_name(by));
    for (const auto& [column, field] : columns)
      text += " " + column + "=" + std::string(field == kNoField ? std::string_view() : field_name(field));
    return text;
  }
  std::uint64_t most_bytes() const override { return most_memory; }

  std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const override {
    auto rows = std::make_unique<Rows>();
    std::string holder;
    std::vector<Value> values;
    each(batch, tally, [&](Event& event) {
      const Value key = batch.get(event, by);
      const std::string_view text =
          key.is_textual() ? key.as_text() : std::string_view(holder = key.to_string());
      if (key.absent()) {
        ++tally.out;
        ++tally.missed;
        return;
      }
      if (text.size() > kLongestKey)
        return fail(batch, event, tally,
                    "the key has " + std::to_string(text.size()) + " bytes, and at most " +
                        std::to_string(kLongestKey) + " are noted");
      Rows::One one{std::string(text), ""};
      if (!forgets || !forgets->holds(EventReader(batch, event))) {
        values.clear();
        for (const auto& [column, field] : columns)
          values.push_back(field == kNoField ? Value() : batch.get(event, field));
        ByteWriter out(one.row);
        NotedTable::write_row(key, text, values, out);
        if (one.row.size() > kLongestRow)
          return fail(batch, event, tally,
                      "its row has " + std::to_string(one.row.size()) + " bytes, and at most " +
                          std::to_string(kLongestRow) + " are noted");
      }
      ++tally.out;
      rows->all.push_back(std::move(one));
    });
    return rows;
  }

  void turn(Batch&, StepTally& tally, Prepared* prepared, StepMemory& memory, Turn& turn) const override {
    auto& m = static_cast<Memory&>(memory);
    if (auto* rows = static_cast<Rows*>(prepared))
      for (Rows::One& one : rows->all) take(m, one, turn);
    while (m.rows->size() > most_keys || m.bytes() > most_memory) {
      const std::size_t now = m.rows->size();
      const std::size_t most =
          std::max<std::size_t>(now > most_keys ? now - most_keys : 0, std::max<std::size_t>(1, now / 16));
      tally.early += forget(m, m.rows->moment_of(most), most, turn);
    }
    if (turn.why == Turn::Why::due)
      forget(m, turn.now - longest, Turn::kMostAtOnce, turn);
    else if (turn.why == Turn::Why::everything)
      forget(m, kNever, m.rows->size(), turn);
  }

 private:
  static constexpr char kKey = 'k';  // a key may be empty; a memory's is not
  void take(Memory& m, Rows::One& one, Turn& turn) const {
    if (one.row.empty()) {
      if (m.rows->forget(one.key)) turn.changes.push_back({kKey + one.key, std::nullopt});
      return;
    }
    std::string remembered = m.rows->note(one.key, one.row, turn.now, longest / 16);
    if (!remembered.empty()) turn.changes.push_back({kKey + one.key, std::move(remembered)});
  }
  static std::size_t forget(Memory& m, std::int64_t limit, std::size_t most, Turn& turn) {
    const std::vector<std::string> gone = m.rows->forget_before(limit, most);
    for (const std::string& key : gone) turn.changes.push_back({kKey + key, std::nullopt});
    return gone.size();
  }
};

std::unique_ptr<Step> make_note(const StepMaking& m) {
  auto step = std::make_unique<Note>();
  auto table = TableScope::find(m.options.text("table"));
  if (!table) {
    m.findings.error(m.options.where("table"), table.problem().message,
                     "tables: { " + m.options.text("table") + ": { noted: [COLUMN, ...] } }");
    return nullptr;
  }
  step->table = *table;
  if (step->table->form != TableHandle::Form::noted) {
    m.findings.error(m.options.where("table"), "the table `" + step->table->name() + "` is read from a file",
                     "a table that events fill has `noted: [COLUMN, ...]` in the place of `file`");
    return nullptr;
  }
  step->by = field_id(m.options.text("by"));
  const std::vector<std::string>& names = step->table->noted_columns;
  const auto& chosen = m.options.tree("columns").entries;
  for (const std::string& name : names)
    step->columns.emplace_back(name, chosen.empty() ? field_id(name) : kNoField);
  bool ok = true;
  for (const auto& entry : chosen) {
    const auto at = std::find(names.begin(), names.end(), entry.key);
    if (at != names.end()) {
      step->columns[static_cast<std::size_t>(at - names.begin())].second = field_id(entry.value.scalar);
      continue;
    }
    const std::string near = did_you_mean(entry.key, names);
    Node key;
    key.place = entry.key_place;
    m.findings.error(key, "the table `" + step->table->name() + "` has no column `" + entry.key + "`",
                     near.empty() ? one_of(names) : near);
    ok = false;
  }
  if (const std::string forget = m.options.text("forget"); !forget.empty())
    step->forgets = std::make_unique<Condition>(*Condition::parse(forget));
  step->longest = m.options.number("longest");
  step->most_keys = static_cast<std::uint64_t>(m.options.number("most_keys"));
  step->most_memory = static_cast<std::uint64_t>(m.options.number("most_bytes"));
  if (!ok) return nullptr;
  return step;
}

const StepRegistration note_step({kNoteSpec, make_note, true, true});

}  // namespace
}  // namespace dingle

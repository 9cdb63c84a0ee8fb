// fold: many events become one for each key and window of time.
//
// Memory: by key (begin of the window, values of the fields) an open window, or of a closed one how many parts
// were sent. What comes for a window that is closed opens it again, as a further part; so sums over parts are
// exact, and nothing is moved into another window.
#include <algorithm>
#include <unordered_map>

#include "core/steps/due_map.h"
#include "core/steps/memory.h"
#include "core/steps/set_function.h"
#include "core/steps/weight.h"

namespace dingle {
namespace {

const ComponentSpec kFoldSpec{
    "fold",
    "Makes many events one for each window of time and each combination of the values of some fields. The "
    "windows go "
    "by the events' own time. One is sent as an event when its end is `grace` past and nothing came for it "
    "for "
    "`grace`; `longest` after it was opened at the latest, or sooner when memory is full. What comes for it "
    "afterwards is sent as a further part: `dingle.part` counts them, and sums over the parts are exact. "
    "`dingle.stands_for` is how many events it was made of; a number that a function made is of them all, "
    "and is "
    "not multiplied by it. What is held survives restarts and crashes, and "
    "nothing is counted twice.",
    "fold: { by: [client.address, http.response.status_code], window: 1m, "
    "values: { bytes: sum(http.response.body.size), slowest: max(duration) } }",
    {{.name = "by",
      .type = OptionType::fields,
      .text =
          "The fields that tell one event from another; the event that is made has them. An event that lacks "
          "one is told from those that have it. None: one event for each window."},
     {.name = "window",
      .type = OptionType::duration,
      .fallback = "1m",
      .text = "How long a window is; windows begin at whole multiples of it since 1970 UTC.",
      .least = 1'000'000'000},
     {.name = "values",
      .type = OptionType::values,
      .text =
          "Fields of the event that is made, each with a function: `count(*)`, `count(f)`, `sum(f)`, "
          "`min(f)`, "
          "`max(f)`, `first(f)` and `last(f)` by time, `count(distinct f)` (exact up to 64, then an estimate "
          "within some percent; `dingle.estimates` names such fields). Events that lack the field do not "
          "count, "
          "as in SQL. An event whose value a function cannot take is not folded: it is marked and passes "
          "on."},
     {.name = "grace",
      .type = OptionType::duration,
      .fallback = "10s",
      .text = "How long a window waits for events that come late."},
     {.name = "longest",
      .type = OptionType::duration,
      .fallback = "1h",
      .text = "How long a window may be open, by the clock; and how long its parts are counted after that.",
      .least = 1'000'000'000},
     {.name = "most_windows",
      .type = OptionType::integer,
      .fallback = "100000",
      .text = "How many windows may be open; those that were not touched for longest are sent early.",
      .least = 1},
     {.name = "most_bytes",
      .type = OptionType::size,
      .fallback = "16MiB",
      .text = "How much memory they may take; the same happens.",
      .least = 64 * 1024,
      .most = 64 * 1024 * 1024}}};

constexpr std::size_t kLongestKey = 16 * 1024;  // bytes
constexpr std::uint64_t kOverhead = 320;        // that an entry is charged with, beside key and value twice

std::int64_t later_by(std::int64_t moment, std::int64_t by) {
  std::int64_t sum = 0;
  return __builtin_add_overflow(moment, by, &sum) ? kNever : sum;
}

class Fold final : public MemoryStep {
 public:
  struct Made {
    FieldId field = kNoField;
    std::string name;
    SetFunction function;
  };
  std::vector<std::string> by_names;
  std::vector<FieldId> by;
  std::vector<Made> values;
  std::int64_t window = 0, grace = 0, longest = 0;
  std::uint64_t most_windows = 0, most_memory = 0;
  std::string made_of;  // what `dingle.values` says

  // What came to one window.
  struct Group {
    std::uint64_t events = 0, stands_for = 0;
    std::vector<Accumulator> values;
    std::uint64_t bytes() const {
      std::uint64_t n = 0;
      for (const Accumulator& a : values) n += a.bytes();
      return n;
    }
  };
  struct Open {
    Group group;
    std::int64_t opened = 0;  // by the clock
    std::uint64_t parts = 0;  // that were sent before
  };
  struct Closed {
    std::uint64_t parts = 0;
  };
  struct Groups final : Prepared {
    std::unordered_map<std::string, Group> all;
    std::vector<const std::string*> order;  // keys, as they came
  };
  class Memory final : public StepMemory {
   public:
    DueMap<Open> open;
    DueMap<Closed> closed;
    std::uint64_t held = 0;
    Size size() const override { return {open.size(), open.bytes() + closed.bytes(), held}; }
    std::int64_t next_due() const override { return std::min(open.next_due(), closed.next_due()); }
  };

  void follow(StepFields& fields) const override {
    for (const std::string& f : by_names) fields.reads("by", f);
    for (const Made& made : values)
      if (made.function.field != kNoField) fields.reads("values", made.function.of);
    fields.there.take_all_away();
    for (const std::string& f : by_names) fields.there.add(f);
    for (const Made& made : values) fields.there.add(made.name);
    for (const FieldId f : {names::stands_for, names::folded, names::values, names::part, names::estimates})
      fields.there.add(field_name(f));
  }
  std::unique_ptr<StepMemory> begin() const override { return std::make_unique<Memory>(); }
  std::uint64_t most_bytes() const override { return most_memory; }
  std::string meaning() const override {
    std::string text = "fold 1 " + std::to_string(window);
    for (const std::string& field : by_names) text += " " + field;
    text += " :";
    for (const Made& m : values)
      text +=
          " " + m.name + "=" + std::to_string(static_cast<int>(m.function.form)) + "(" + m.function.of + ")";
    return text;
  }

  std::unique_ptr<Prepared> prepare(Batch& batch, StepTally& tally) const override {
    auto groups = std::make_unique<Groups>();
    std::string key;
    std::size_t kept = 0;
    for (std::size_t i = 0; i < batch.events.size(); ++i) {
      Event& event = batch.events[i];
      if (takes(batch, event)) {
        ++tally.in;
        if (const std::string why = fits(batch, event, key); !why.empty()) {
          fail(batch, event, tally, why);
        } else {
          add(batch, event, key, *groups);
          ++tally.merged;
          continue;
        }
      }
      if (kept != i) batch.events[kept] = event;
      ++kept;
    }
    batch.events.resize(kept);
    return groups;
  }

  void turn(Batch& batch, StepTally& tally, Prepared* prepared, StepMemory& memory,
            Turn& turn) const override {
    auto& m = static_cast<Memory&>(memory);
    if (const auto* groups = static_cast<const Groups*>(prepared)) {
      for (const std::string* key : groups->order) take(m, *key, groups->all.at(*key), turn);
      const auto send_early = [&] {
        ++tally.early;
        send(batch, tally, m, m.open.oldest(), turn);
      };
      while (m.open.size() > most_windows) send_early();
      while (m.closed.size() > most_windows) forget(m, m.closed.oldest(), turn);
      while (m.open.bytes() + m.closed.bytes() > most_memory && m.closed.size() + m.open.size() != 0)
        m.closed.size() != 0 ? forget(m, m.closed.oldest(), turn) : send_early();
      for (const std::string* key : groups->order)
        if (const auto* held = m.open.find(*key)) turn.changes.push_back({*key, written(held->value)});
    }
    if (turn.why == Turn::Why::events) return;
    const bool all = turn.why == Turn::Why::everything;
    for (std::size_t i = 0; all || i < Turn::kMostAtOnce; ++i) {
      if (m.open.size() == 0 || (!all && m.open.next_due() > turn.now)) break;
      send(batch, tally, m, m.open.first_due(), turn);
    }
    for (std::size_t i = 0; all || i < Turn::kMostAtOnce; ++i) {
      if (m.closed.size() == 0 || (!all && m.closed.next_due() > turn.now)) break;
      forget(m, m.closed.first_due(), turn);
    }
  }

  bool restore(StepMemory& memory, std::string_view key, std::string_view value,
               std::int64_t now) const override {
    auto& m = static_cast<Memory&>(memory);
    ByteReader in(value);
    if (key.size() < 8) return false;
    if (in.u8() == 0) {
      Closed closed{in.varint()};
      const std::int64_t until = in.zigzag();
      if (!in.ok() || !in.at_end()) return false;
      auto* held = m.closed.touch(key).first;
      held->value = closed;
      m.closed.settle(*held, until, charge(key, 8));
      return true;
    }
    Open open;
    open.opened = in.zigzag();
    open.parts = in.varint();
    open.group.events = in.varint();
    open.group.stands_for = in.varint();
    open.group.values.resize(values.size());
    for (std::size_t i = 0; i < values.size(); ++i)
      if (!open.group.values[i].read(values[i].function, in)) return false;
    if (!in.ok() || !in.at_end()) return false;
    auto* held = m.open.touch(key).first;
    held->value = std::move(open);
    m.held += held->value.group.events;
    m.open.settle(*held, due(key, held->value, now), charge(key, held->value.group.bytes()));
    return true;
  }

 private:
  // Makes the event's key. Why it cannot be folded, or "".
  std::string fits(const Batch& batch, const Event& event, std::string& key) const {
    key.clear();
    ByteWriter out(key);
    // Instants before 1970 belong to the window that begins before them.
    const std::int64_t into = ((event.timestamp % window) + window) % window;
    std::int64_t begin = 0;
    if (__builtin_sub_overflow(event.timestamp, into, &begin)) return "its time lies in no whole window";
    out.u64(static_cast<std::uint64_t>(begin));
    OwnedValue owned;
    for (const FieldId field : by) {
      owned.set(batch.get(event, field));
      owned.write(out);
      if (key.size() > kLongestKey) return "the values that it is told by have more than 16 KiB";
    }
    for (const Made& m : values)
      if (m.function.field != kNoField)
        if (std::string why = m.function.refuses(batch.get(event, m.function.field)); !why.empty())
          return why;
    return "";
  }

  void add(const Batch& batch, const Event& event, const std::string& key, Groups& groups) const {
    const auto [it, added] = groups.all.try_emplace(key);
    Group& group = it->second;
    if (added) {
      group.values.resize(values.size());
      groups.order.push_back(&it->first);
    }
    const auto weight = static_cast<std::uint64_t>(weight_of(event));
    ++group.events;
    group.stands_for += weight;
    for (std::size_t i = 0; i < values.size(); ++i) {
      const SetFunction& f = values[i].function;
      const double times = f.form == SetFunction::Form::sum ? field_weight(event, f.of).times : 1;
      group.values[i].add(f, f.field ? batch.get(event, f.field) : Value(), event.timestamp, weight, times);
    }
  }

  void merge(Group& into, const Group& more) const {
    into.events += more.events;
    into.stands_for += more.stands_for;
    into.values.resize(values.size());
    for (std::size_t i = 0; i < values.size(); ++i) into.values[i].merge(values[i].function, more.values[i]);
  }

  static std::int64_t begin_of(std::string_view key) {
    return static_cast<std::int64_t>(ByteReader(key).u64());
  }
  // When the window is sent, if nothing more comes for it after `touched`.
  std::int64_t due(std::string_view key, const Open& open, std::int64_t touched) const {
    const std::int64_t end = later_by(begin_of(key), window);
    return std::min(later_by(std::max(end, touched), grace), later_by(open.opened, longest));
  }
  static std::uint64_t charge(std::string_view key, std::uint64_t value) {
    return 2 * (key.size() + value) + kOverhead;
  }

  void take(Memory& m, const std::string& key, const Group& group, const Turn& turn) const {
    const auto [held, added] = m.open.touch(key);
    if (added) {
      held->value.opened = turn.now;
      if (auto* closed = m.closed.find(key)) {
        held->value.parts = closed->value.parts;
        m.closed.erase(*closed);
      }
    }
    merge(held->value.group, group);
    m.held += group.events;
    m.open.settle(*held, due(key, held->value, turn.now), charge(key, held->value.group.bytes()));
  }

  // Makes the window's event; what is left is how many parts it had.
  void send(Batch& batch, StepTally& tally, Memory& m, DueMap<Open>::Held& held, Turn& turn) const {
    Event event;
    make(batch, event, held.key, held.value);
    event.observed = turn.now;
    event.position = m.serial++;
    event.slice = turn.slice;
    batch.events.push_back(event);
    ++tally.created, ++tally.out;
    tally.stood_for += held.value.group.events;
    m.held -= held.value.group.events;
    if (turn.why == Turn::Why::everything) {
      turn.changes.push_back({held.key, std::nullopt});
    } else {
      auto* closed = m.closed.touch(held.key).first;
      closed->value.parts = held.value.parts + 1;
      m.closed.settle(*closed, later_by(turn.now, longest), charge(held.key, 8));
      std::string value;
      ByteWriter out(value);
      out.u8(0);
      out.varint(closed->value.parts);
      out.zigzag(closed->due);
      turn.changes.push_back({held.key, std::move(value)});
    }
    m.open.erase(held);
  }

  void forget(Memory& m, DueMap<Closed>::Held& held, Turn& turn) const {
    turn.changes.push_back({held.key, std::nullopt});
    m.closed.erase(held);
  }

  void make(Batch& batch, Event& event, const std::string& key, const Open& open) const {
    ByteReader in(key);
    event.timestamp = static_cast<std::int64_t>(in.u64());
    std::string body, estimates;
    const auto set = [&](FieldId field, const Value& value, std::string_view called) {
      if (value.absent()) return;
      const Value kept =
          value.is_textual() ? Value::from_text(value.kind(), batch.arena.copy(value.as_text())) : value;
      event.set(batch.arena, field, kept);
      if (!body.empty()) body += ' ';
      body.append(called).append("=");
      const bool plain =
          !value.is_textual() ||
          (!value.as_text().empty() && value.as_text().find_first_of(" \t\r\n\"=") == std::string_view::npos);
      if (plain)
        body += kept.to_string();
      else
        kept.append_json(body);
    };
    for (std::size_t i = 0; i < by.size(); ++i) {
      OwnedValue owned;
      if (!owned.read(in)) break;
      set(by[i], owned.value(), by_names[i]);
    }
    for (std::size_t i = 0; i < values.size(); ++i) {
      const Accumulator& a = open.group.values[i];
      set(values[i].field, a.value(values[i].function), values[i].name);
      if (a.estimated()) estimates += (estimates.empty() ? "" : " ") + values[i].name;
    }
    if (!estimates.empty())
      event.set(batch.arena, names::estimates, Value::text(batch.arena.copy(estimates)));
    set(names::stands_for, Value::integer(static_cast<std::int64_t>(open.group.stands_for)), "stands_for");
    event.set(batch.arena, names::folded, Value::integer(static_cast<std::int64_t>(open.group.stands_for)));
    event.set(batch.arena, names::values, Value::text(made_of));
    event.set(batch.arena, names::part, Value::integer(static_cast<std::int64_t>(open.parts + 1)));
    event.body = batch.arena.copy(body);
  }

  std::string written(const Open& open) const {
    std::string value;
    ByteWriter out(value);
    out.u8(1);
    out.zigzag(open.opened);
    out.varint(open.parts);
    out.varint(open.group.events);
    out.varint(open.group.stands_for);
    for (std::size_t i = 0; i < values.size(); ++i) open.group.values[i].write(values[i].function, out);
    return value;
  }
};

std::unique_ptr<Step> make_fold(const StepMaking& m) {
  auto step = std::make_unique<Fold>();
  step->by_names = m.options.texts("by");
  for (const std::string& name : step->by_names) step->by.push_back(field_id(name));
  step->window = m.options.number("window");
  step->grace = m.options.number("grace");
  step->longest = m.options.number("longest");
  step->most_windows = static_cast<std::uint64_t>(m.options.number("most_windows"));
  step->most_memory = static_cast<std::uint64_t>(m.options.number("most_bytes"));
  bool ok = true;
  const auto refuse = [&](const Node& node, const std::string& what, const std::string& hint) {
    m.findings.error(node, what, hint);
    ok = false;
  };
  for (const auto& entry : m.options.tree("values").entries) {
    Node key;
    key.form = Node::Form::scalar;
    key.place = entry.key_place;
    key.scalar = entry.key;
    ok = writable_field(m, key, entry.key) && ok;
    if (entry.key == "body")
      refuse(key, "the body is made of the other values", "give the field another name");
    if (std::find(step->by_names.begin(), step->by_names.end(), entry.key) != step->by_names.end())
      refuse(key, "`" + entry.key + "` stands in `by` already", "give the value a name of its own");
    auto function = SetFunction::parse(entry.value.scalar);
    if (!function) {
      m.findings.error_within(entry.value, function.problem());
      ok = false;
      continue;
    }
    step->values.push_back({field_id(entry.key), entry.key, std::move(*function)});
  }
  for (const std::string& name : step->by_names)
    if (name == "timestamp" || name == "observed_timestamp")
      refuse(m.options.where("by"),
             "`" + name + "` differs from event to event: the window stands for the time",
             "choose another field");
  if (!ok) return nullptr;
  const auto say = [&](const std::string& field, std::string_view how) {
    step->made_of.append(step->made_of.empty() ? "" : " ").append(field).append("=").append(how);
  };
  for (const std::string& name : step->by_names) say(name, "by");
  for (const Fold::Made& made : step->values) say(made.name, made.function.name());
  return step;
}

const StepRegistration fold_step({kFoldSpec, make_fold, true, true});

}  // namespace
}  // namespace dingle

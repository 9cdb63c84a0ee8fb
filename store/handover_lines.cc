#include "store/handover_lines.h"

#include <charconv>
#include <optional>

#include "core/json_fields.h"
#include "store/store.h"

namespace dingle {
namespace {

template <class Number>
bool read(std::string_view text, Number& out) {
  const auto result = std::from_chars(text.data(), text.data() + text.size(), out);
  return result.ec == std::errc() && result.ptr == text.data() + text.size();
}

// A field's value as it was before it was sent (docs/handover.md): a JSON value, and what kind it was where
// that does not show.
Value typed(Value v, std::string_view kind) {
  if (v.kind() == Kind::integer && kind == "decimal")
    return Value::decimal(static_cast<double>(v.as_integer()));
  if (v.kind() == Kind::text && kind == "decimal") {  // a whole one beyond 64 bits
    double decimal = 0;
    return read(v.as_text(), decimal) ? Value::decimal(decimal) : v;
  }
  if (v.kind() == Kind::integer && kind == "timestamp") return Value::timestamp(v.as_integer());
  if (v.kind() == Kind::text && kind == "ip") return Value::ip(v.as_text());
  return v;
}

// What the sender's program says of an event; other names of that sort came with the data.
bool of_the_program(FieldId name) {
  for (const FieldId own : {names::pipeline, names::template_number, names::configuration, names::source,
                            names::zone, names::altered, names::unmatched, names::unmatched_column})
    if (name == own) return true;
  return false;
}

// The members of a JSON object as fields, each once; `types` names the kinds that do not show. False if one of the two is none.
bool read_fields(std::string_view fields, std::string_view types, Arena& arena, std::span<const Field>& out) {
  std::vector<std::pair<std::string_view, std::string_view>> kinds;
  if (!types.empty() && !json_each(types, arena, [&](std::string_view name, std::string_view text) {
        if (text.size() >= 2) kinds.emplace_back(name, text.substr(1, text.size() - 2));
        return kinds.size() <= kMostFields;
      }))
    return false;
  std::vector<Field> all;
  if (!fields.empty() && !json_each(fields, arena, [&](std::string_view name, std::string_view text) {
        std::string_view kind;
        for (const auto& [of, is] : kinds)
          if (of == name) kind = is;
        Value v = typed(json_value(text, arena), kind);
        if (v.is_textual()) v = Value::from_text(v.kind(), arena.copy(v.as_text()));
        FieldId id = arena.names().id(name);
        if (!of_the_program(id)) id = arena.names().foreign_id(name);
        const bool twice = std::any_of(all.begin(), all.end(), [&](const Field& f) { return f.name == id; });
        if (!v.absent() && id != kNoField && !twice && all.size() < kMostFields) all.push_back({id, v});
        return true;
      }))
    return false;
  auto* stored = static_cast<Field*>(arena.allocate(std::max<std::size_t>(1, all.size()) * sizeof(Field)));
  std::copy(all.begin(), all.end(), stored);
  out = {stored, all.size()};
  return true;
}

}  // namespace

bool HandoverLines::add(std::string_view line, const Sender& sender) {
  StoredEvent e;
  e.order.spool = sender.spool;
  std::string_view fields, types, more, more_types;
  std::optional<std::string_view> index;
  int numbers = 0;
  bool body = false;
  const bool sound = json_each(line, arena_, [&](std::string_view name, std::string_view text) {
    auto number = [&](auto& to) { return ++numbers, read(text, to); };
    if (name == "epoch") return number(e.order.epoch);
    if (name == "number") return number(e.order.number);
    if (name == "ordinal") return number(e.order.ordinal);
    if (name == "stream") return number(e.stream);
    if (name == "position") return number(e.position);
    if (name == "time") return number(e.timestamp);
    if (name == "observed") return number(e.observed);
    if (name == "branch") return read(text, e.branch);
    if (name == "fields") return fields = text, true;
    if (name == "types") return types = text, true;
    if (name == "more") return more = text, true;
    if (name == "more_types") return more_types = text, true;
    if (name != "index" && name != "body") return true;
    const Value v = json_value(text, arena_);
    if (v.kind() != Kind::text) return false;
    if (name == "index")
      index = v.as_text();
    else
      e.body = arena_.copy(v.as_text()), body = true;
    return true;
  });
  if (!sound || numbers != 7 || !index || !body) return false;
  if (!read_fields(fields, types, arena_, e.fields) || !read_fields(more, more_types, arena_, e.more))
    return false;
  by_index_[index_name(*index)].push_back(e);
  return true;
}

}  // namespace dingle

#include "agent/namer.h"

#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>

#include "core/template/library.h"
#include "core/time/instant.h"
#include "store/store.h"

namespace dingle {
namespace {

std::int64_t plausible_time(const Event& event, bool* implausible) {
  constexpr std::int64_t k1990 = days_from_civil(1990, 1, 1) * kDay;
  *implausible = event.timestamp < k1990 || event.timestamp > event.observed + kDay;
  return *implausible ? event.observed : event.timestamp;
}

// A value within a table's name: no dot, since that would end a schema's name.
std::string within_table_name(std::string_view value) {
  std::string name = index_name(value);
  std::replace(name.begin(), name.end(), '.', '_');
  return name;
}

// PostgreSQL cuts names at 63 bytes without a word, and those of partitions are eleven longer.
std::string table_name(std::string name) {
  constexpr std::size_t kLongest = 63 - 11, kKept = kLongest - 9;
  const std::size_t dot = name.find('.'),
                    begin = dot == std::string::npos ? 0 : dot + 1;  // behind the schema
  if (name.size() - begin <= kLongest) return name;
  std::size_t end = begin + kKept;
  while ((name[end] & 0xC0) == 0x80) --end;  // within a character
  const auto hash = static_cast<std::uint32_t>(XXH3_64bits(name.data(), name.size()));
  return name.substr(0, end) + fmt::format("_{:08x}", hash);
}

}  // namespace

Result<Namer> Namer::parse(std::string_view text, Zone zone, Form form) {
  Namer namer;
  namer.form_ = form;
  namer.zone_ = std::move(zone);
  namer.pieces_.emplace_back();
  for (std::size_t i = 0; i < text.size();) {
    if (text[i] == '}') return Problem{"a single `}` has nothing to close", "", i, 1};
    if (text[i] != '{') {
      namer.pieces_.back().literal += text[i++];
      continue;
    }
    const std::size_t close = text.find('}', i);
    if (close == std::string_view::npos)
      return Problem{"the brace opened here is not closed", "for instance: gate-{day}", i, 1};
    const std::string_view name = text.substr(i + 1, close - i - 1);
    Piece& piece = namer.pieces_.back();
    if (name == "day")
      piece.form = Piece::Form::day;
    else if (name == "month")
      piece.form = Piece::Form::month;
    else if (!is_field_name(name))
      return Problem{"`" + std::string(name) + "` is not a field's name", "use {day}, {month} or a field",
                     i + 1, std::max<std::size_t>(1, name.size())};
    else
      piece.form = Piece::Form::field, piece.field = field_id(name), namer.by_day_alone_ = false;
    namer.pieces_.emplace_back();
    i = close + 1;
  }
  return namer;
}

std::int64_t Namer::day(const Event& event, bool* implausible) const {
  const std::int64_t local = zone_.to_local(plausible_time(event, implausible));
  return local >= 0 ? local / kDay : (local - kDay + 1) / kDay;
}

std::vector<FieldId> Namer::fields() const {
  std::vector<FieldId> all;
  for (const Piece& piece : pieces_)
    if (piece.form == Piece::Form::field) all.push_back(piece.field);
  return all;
}

std::string Namer::name(const Batch& batch, const Event& event, bool* implausible) const {
  const Civil c = civil_from_instant(zone_.to_local(plausible_time(event, implausible)));
  std::string out;
  for (const Piece& piece : pieces_) {
    out += piece.literal;
    switch (piece.form) {
      case Piece::Form::none: break;
      case Piece::Form::day: out += fmt::format("{:04}-{:02}-{:02}", c.year, c.month, c.day); break;
      case Piece::Form::month: out += fmt::format("{:04}-{:02}", c.year, c.month); break;
      case Piece::Form::field: {
        Value v = batch.get(event, piece.field);
        const std::string text = v.absent() ? "none" : v.to_string();
        out += form_ == Form::path ? index_name(text) : form_ == Form::table ? within_table_name(text) : text;
      }
    }
  }
  return form_ == Form::index ? index_name(out) : form_ == Form::table ? table_name(std::move(out)) : out;
}

}  // namespace dingle

#include "core/tables/row_table.h"

#include <algorithm>
#include <charconv>
#include <cstring>

#include "core/condition/tokens.h"
#include "core/glob.h"
#include "core/template/lexemes.h"

namespace dingle {
namespace {

// An address's 16 bytes, or nothing.
bool bytes_of(std::string_view text, std::string& to) {
  to.resize(16);
  return parse_ip(text, reinterpret_cast<unsigned char*>(to.data()));
}

void cut_to(std::string& bytes, unsigned bits) {
  for (unsigned i = 0; i < 16; ++i) {
    const unsigned kept = bits > 8 * i ? std::min(8u, bits - 8 * i) : 0;
    bytes[i] = static_cast<char>(static_cast<unsigned char>(bytes[i]) & (0xFF00u >> kept & 0xFFu));
  }
}

std::string_view without_dots(std::string_view name) {
  while (name.starts_with('.')) name.remove_prefix(1);
  while (name.ends_with('.')) name.remove_suffix(1);
  return name;
}

}  // namespace

bool RowTable::add(std::string_view key, std::span<const Value> row) {
  switch (match_) {
    case Match::exact: put(exact_, key, row); return true;
    case Match::domain: {
      const std::string name = lower_ascii_text(without_dots(key));
      if (name.empty()) return false;
      put(exact_, name, row);
      return true;
    }
    case Match::wildcard:
      if (key.find('*') != std::string_view::npos) globs_.emplace_back(key, rows_);
      put(exact_, key, row);
      return true;
    case Match::range: break;
  }
  const std::size_t slash = key.find('/');
  std::string bytes;
  const std::string_view address = key.substr(0, slash);
  if (!bytes_of(address, bytes)) return false;
  const bool four = address.find(':') == std::string_view::npos;
  unsigned bits = four ? 32 : 128;
  if (slash != std::string_view::npos) {
    const char *from = key.data() + slash + 1, *to = key.data() + key.size();
    unsigned given = 0;
    const auto r = std::from_chars(from, to, given);
    if (r.ec != std::errc() || r.ptr != to || given > bits) return false;
    bits = given;
  }
  if (four) bits += 96;
  cut_to(bytes, bits);
  auto at = std::find_if(prefixes_.begin(), prefixes_.end(), [&](const Prefix& p) { return p.bits <= bits; });
  if (at == prefixes_.end() || at->bits != bits) at = prefixes_.insert(at, Prefix{bits, {}});
  const std::size_t number = rows_++;
  for (const Value& v : row)
    values_.push_back(v.is_textual() ? Value::from_text(v.kind(), arena_.copy(v.as_text())) : v);
  const auto [held, added] = at->rows.emplace(bytes, number);
  if (!added) held->second = number, ++doubled_;
  return true;
}

void RowTable::put(std::unordered_map<std::string_view, std::size_t>& to, std::string_view key,
                   std::span<const Value> row) {
  const std::size_t number = rows_++;
  for (const Value& v : row)
    values_.push_back(v.is_textual() ? Value::from_text(v.kind(), arena_.copy(v.as_text())) : v);
  if (const auto held = to.find(key); held != to.end())
    held->second = number, ++doubled_;
  else
    to.emplace(key.empty() ? std::string_view("") : arena_.copy(key), number);
}

std::span<const Value> RowTable::find(std::string_view key, Found&) const {
  if (match_ == Match::range) {
    std::string bytes;
    if (!bytes_of(key, bytes)) return {};
    for (const Prefix& prefix : prefixes_) {  // each shorter than the one before
      cut_to(bytes, prefix.bits);
      if (const auto held = prefix.rows.find(bytes); held != prefix.rows.end()) return row(held->second);
    }
    return {};
  }
  if (match_ == Match::domain) {
    const std::string name = lower_ascii_text(without_dots(key));
    for (std::string_view rest = name; !rest.empty();) {
      if (const auto held = exact_.find(rest); held != exact_.end()) return row(held->second);
      const std::size_t dot = rest.find('.');
      rest = dot == std::string_view::npos ? std::string_view() : rest.substr(dot + 1);
    }
    return {};
  }
  if (const auto held = exact_.find(key); held != exact_.end()) return row(held->second);
  for (const auto& [glob, number] : globs_)
    if (matches_glob(key, glob)) return row(number);
  return {};
}

void RowTable::each_key(const std::function<bool(const Value&)>& to) const {
  if (match_ != Match::exact) return;
  for (const auto& [key, number] : exact_)
    if (!to(row(number)[key_])) return;
}

}  // namespace dingle

#include "core/names.h"

#include <deque>
#include <mutex>
#include <shared_mutex>
#include <string>
#include <unordered_map>

namespace dingle {
namespace {

struct Table {
  std::shared_mutex mutex;
  std::deque<FieldName> names;  // a deque: they never move
  std::unordered_map<std::string_view, FieldId> ids;
};

Table& table() {
  static Table* the_table = new Table;  // never destroyed: threads may still read names at exit
  return *the_table;
}

// The lasting id of a name, if it has one. One slot per hash: a hit needs no lock.
struct Cached {
  std::string_view name;
  FieldId id = kNoField;
};

Cached& cached(std::string_view name) {
  thread_local Cached cache[512];
  return cache[std::hash<std::string_view>{}(name) % 512];
}

FieldId find(std::string_view name) {
  if (name.empty() || name.size() > kLongestName) return kNoField;
  Cached& slot = cached(name);
  if (slot.name == name) return slot.id;
  Table& t = table();
  std::shared_lock lock(t.mutex);
  const auto it = t.ids.find(name);
  if (it == t.ids.end()) return kNoField;
  slot = {it->first, it->second};
  return it->second;
}

}  // namespace

FieldId field_id(std::string_view name) {
  if (const FieldId known = find(name)) return known;
  if (name.empty() || name.size() > kLongestName) return kNoField;
  Table& t = table();
  std::unique_lock lock(t.mutex);
  if (const auto it = t.ids.find(name); it != t.ids.end()) return it->second;
  if (t.names.size() >= kMostNames) return kNoField;
  const FieldName& added = t.names.emplace_back(FieldName{std::string(name), true});
  return t.ids.emplace(added.text, &added).first->second;
}

std::uint64_t NameDictionary::next_serial() {
  static std::atomic<std::uint64_t> last{0};
  return ++last;
}

void NameDictionary::clear() {
  if (names_.empty()) return;
  ids_.clear();
  names_.clear();
  serial_ = next_serial();
}

// What it has stays as it is, though the name was interned meanwhile.
FieldId NameDictionary::id(std::string_view name) {
  if (!ids_.empty())
    if (const auto it = ids_.find(name); it != ids_.end()) return it->second;
  if (const FieldId lasting = find(name)) return lasting;
  if (name.empty() || name.size() > kLongestName) return kNoField;
  const FieldName& added = names_.emplace_back(FieldName{std::string(name), false});
  return ids_.emplace(added.text, &added).first->second;
}

bool belongs_to_event(std::string_view name) {
  return name == "body" || name == "timestamp" || name == "observed_timestamp" || name.starts_with("dingle.");
}

FieldId NameDictionary::foreign_id(std::string_view name) {
  return belongs_to_event(name) ? id(std::string(kForeignPrefix) += name) : id(name);
}

namespace names {
const FieldId timestamp = field_id("timestamp");
const FieldId observed_timestamp = field_id("observed_timestamp");
const FieldId body = field_id("body");
const FieldId severity = field_id("severity");
const FieldId severity_number = field_id("severity_number");
const FieldId trace_id = field_id("trace_id");
const FieldId span_id = field_id("span_id");
const FieldId pipeline = field_id("dingle.pipeline");
const FieldId template_number = field_id("dingle.template");
const FieldId configuration = field_id("dingle.configuration");
const FieldId source = field_id("dingle.source");
const FieldId zone = field_id("dingle.zone");
const FieldId altered = field_id("dingle.altered");
const FieldId unmatched = field_id("dingle.unmatched");
const FieldId unmatched_column = field_id("dingle.unmatched.column");
const FieldId dropped_by = field_id("dingle.dropped_by");
const FieldId held = field_id("dingle.held");
const FieldId stands_for = field_id("dingle.stands_for");
const FieldId folded = field_id("dingle.folded");
const FieldId values = field_id("dingle.values");
const FieldId part = field_id("dingle.part");
const FieldId estimates = field_id("dingle.estimates");
const FieldId step = field_id("dingle.step");
}  // namespace names

}  // namespace dingle

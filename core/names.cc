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
  std::deque<std::string> texts{std::string()};  // a deque: its strings never move
  std::unordered_map<std::string_view, FieldId> ids;
};

Table& table() {
  static Table* the_table = new Table;  // never destroyed: threads may still read names at exit
  return *the_table;
}

// One slot per hash: a hit needs no lock.
struct Cached {
  std::string_view name;
  FieldId id = kNoField;
};

FieldId look_up(std::string_view name) {
  if (name.empty() || name.size() > kLongestName) return kNoField;
  thread_local Cached cache[512];
  Cached& slot = cache[std::hash<std::string_view>{}(name) % 512];
  if (slot.name == name) return slot.id;
  Table& t = table();
  {
    std::shared_lock lock(t.mutex);
    auto it = t.ids.find(name);
    if (it != t.ids.end()) {
      slot = {it->first, it->second};
      return it->second;
    }
  }
  std::unique_lock lock(t.mutex);
  auto it = t.ids.find(name);
  if (it == t.ids.end()) {
    if (t.texts.size() > kMostNames) return kNoField;
    t.texts.emplace_back(name);
    it = t.ids.emplace(t.texts.back(), static_cast<FieldId>(t.texts.size() - 1)).first;
  }
  slot = {it->first, it->second};
  return it->second;
}

}  // namespace

FieldId field_id(std::string_view name) { return look_up(name); }

bool belongs_to_event(std::string_view name) {
  return name == "body" || name == "timestamp" || name == "observed_timestamp" || name.starts_with("dingle.");
}

FieldId foreign_field_id(std::string_view name) {
  return belongs_to_event(name) ? look_up(std::string(kForeignPrefix) += name) : look_up(name);
}

std::string_view field_name(FieldId id) {
  Table& t = table();
  std::shared_lock lock(t.mutex);
  return id < t.texts.size() ? std::string_view(t.texts[id]) : std::string_view();
}

namespace names {
const FieldId timestamp = field_id("timestamp");
const FieldId observed_timestamp = field_id("observed_timestamp");
const FieldId body = field_id("body");
const FieldId severity = field_id("severity");
const FieldId severity_number = field_id("severity_number");
const FieldId pipeline = field_id("dingle.pipeline");
const FieldId template_number = field_id("dingle.template");
const FieldId configuration = field_id("dingle.configuration");
const FieldId unmatched = field_id("dingle.unmatched");
const FieldId unmatched_column = field_id("dingle.unmatched.column");
const FieldId dropped_by = field_id("dingle.dropped_by");
const FieldId step = field_id("dingle.step");
}  // namespace names

}  // namespace dingle

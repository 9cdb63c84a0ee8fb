// Counting and measuring events by groups.
#include <xxhash.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <utility>

#include "core/bytes.h"
#include "core/steps/sketch.h"
#include "core/steps/weight.h"
#include "core/time/buckets.h"
#include "store/frequent.h"
#include "store/group_table.h"
#include "store/measured.h"
#include "store/scan.h"

namespace dingle {
namespace {

constexpr std::size_t kMostCounted = 4'000'000;

// A value of a group's key; texts are views into it.
Value value_of(ByteReader& r) {
  const auto kind = static_cast<Kind>(r.u8());
  if (kind == Kind::decimal) return Value::decimal(r.decimal());
  if (kind == Kind::text || kind >= Kind::ip) return Value::from_text(kind, r.text());
  const std::int64_t v = r.zigzag();
  return kind == Kind::integer     ? Value::integer(v)
         : kind == Kind::boolean   ? Value::boolean(v != 0)
         : kind == Kind::timestamp ? Value::timestamp(v)
                                   : Value();
}
// The order of keys with equal counts: by their texts.
bool before(std::string_view a, std::string_view b, std::size_t values) {
  ByteReader ra(a), rb(b);
  for (std::size_t i = 0; i < values; ++i) {
    const Value x = value_of(ra), y = value_of(rb);
    if (x.is_textual() && y.is_textual()) {
      if (const int order = x.as_text().compare(y.as_text())) return order < 0;
    } else if (const int order = x.to_string().compare(y.to_string())) {
      return order < 0;
    }
  }
  return false;
}

// What one thread has counted.
class Groups {
 public:
  Groups(const Grouping& grouping, const std::vector<FieldId>& fields, std::size_t buckets_of_range)
      : g_(grouping),
        fields_(fields),
        measured_(grouping.measure == Measure::count ? kNoField : field_id(grouping.field)),
        keys_(fields.size()),
        most_groups_(g_.bucket > 0 ? kMostGroupsOverTime : kMostGroups),
        most_in_bucket_(buckets_of_range <= 1
                            ? most_groups_
                            : std::max<std::size_t>(kLeastInBucket, most_groups_ / 2 / buckets_of_range)) {}

  void add(const Block& block, std::size_t row) {
    if (looks_at_.serial != block.serial()) look_at(block);
    const RowWeight weight = weight_of(row);
    weighted = weighted || weight.events != 1;
    double number = 0;
    if (measured_ != kNoField) {
      const Value v = looks_at_.measured.at(row);
      if (!v.is_number()) return;
      number = v.as_number();
    }
    const std::int64_t bucket = g_.bucket > 0 ? bucket_of(block.timestamp(row)) : 0;
    for (std::size_t i = 0; i < fields_.size(); ++i) keys_[i] = looks_at_.keys[i].at(row);
    // What many events of a block have is looked for once.
    Recent* recent = nullptr;
    if (fields_.size() <= 1 && (fields_.empty() || looks_at_.keys[0].repeats() || !keys_[0].is_textual())) {
      const Value v = fields_.empty() ? Value() : keys_[0];
      const bool text = v.is_textual();
      const Recent now{block.serial(),
                       bucket,
                       v.kind(),
                       text ? v.as_text().data() : nullptr,
                       text                        ? static_cast<std::int64_t>(v.as_text().size())
                       : v.kind() == Kind::decimal ? std::bit_cast<std::int64_t>(v.as_decimal())
                                                   : v.as_integer(),
                       nullptr};
      recent = &recent_[now.slot()];
      if (recent->is(now)) {
        count(*recent->group, number, weight);
        return;
      }
      *recent = now;
    }
    const Place place = place_of(bucket, weight.events);
    if (recent != nullptr && place.is_own) recent->group = place.group;
    count(*place.group, number, weight);
  }

  // A block whole, if that can be: events are counted by one field at most, and none stands for several.
  bool add(const IndexReader::BlockInfo& info, const Block& block) {
    if (measured_ != kNoField || fields_.size() > 1 || is_weighted(block)) return false;
    const std::int64_t first = bucket_of(info.first), last = bucket_of(info.last);
    if (fields_.empty()) {
      std::uint64_t events = first == last ? block.count() : 0;
      std::int64_t bucket = first;
      for (std::size_t row = 0; first != last && row < block.count(); ++row) {
        const std::int64_t now = bucket_of(block.timestamp(row));
        if (now != bucket) add_events(bucket, std::exchange(events, 0));
        bucket = now;
        ++events;
      }
      add_events(bucket, events);
      return true;
    }
    if (first != last || !block.count_values(fields_[0], counts_)) return false;
    for (const auto& [value, events] : counts_) {
      keys_[0] = value;
      add_events(first, events);
    }
    return true;
  }

 private:
  // What is asked of each event of a block.
  struct LooksAt {
    std::uint64_t serial = 0;
    std::vector<Block::Values> keys;
    Block::Values measured, weights, folded, values;
    bool weighted = false, is_folded = false;
    std::string_view said;                        // by `dingle.values` of the event before,
    std::vector<FoldedField> made;                // of the fields of the key,
    FoldedField made_measured = FoldedField::by;  // and of what is measured
  };
  struct RowWeight {
    std::uint64_t events = 1;
    FieldWeight measured;
  };
  // Whether some events stand for several; most blocks have no such field.
  bool is_weighted(const Block& block) const {
    if (g_.as_stored) return false;
    return has(block, names::stands_for);
  }
  static bool has(const Block& block, FieldId field) {
    const auto fields = block.fields();
    return std::find(fields.begin(), fields.end(), field) != fields.end();
  }
  void look_at(const Block& block) {
    looks_at_.serial = block.serial();
    looks_at_.keys.clear();
    looks_at_.weighted = is_weighted(block);
    looks_at_.is_folded = looks_at_.weighted && has(block, names::folded);
    looks_at_.weights = Block::Values(block, names::stands_for);
    if (looks_at_.is_folded) {
      looks_at_.folded = Block::Values(block, names::folded);
      looks_at_.values = Block::Values(block, names::values);
      look_at_made({});
    }
    looks_at_.measured = Block::Values(block, measured_);
    for (const FieldId field : fields_) looks_at_.keys.emplace_back(block, field);
  }
  void look_at_made(std::string_view values) {
    looks_at_.said = values;
    looks_at_.made.clear();
    for (const FieldId field : fields_) looks_at_.made.push_back(folded_field(values, field_name(field)));
    if (measured_ != kNoField) looks_at_.made_measured = folded_field(values, field_name(measured_));
  }
  RowWeight weight_of(std::size_t row) {
    if (!looks_at_.weighted) return {};
    const Value stands_for = looks_at_.weights.at(row);
    const Value folded = looks_at_.is_folded ? looks_at_.folded.at(row) : Value();
    RowWeight weight{static_cast<std::uint64_t>(dingle::weight_of(stands_for)), {}};
    if (folded.absent()) {
      weight.measured = field_weight(stands_for, folded, FoldedField::by);
      return weight;
    }
    const Value values = looks_at_.values.at(row);
    const std::string_view said = values.is_textual() ? values.as_text() : std::string_view();
    if (said.data() != looks_at_.said.data() || said.size() != looks_at_.said.size()) look_at_made(said);
    weight.measured = field_weight(stands_for, folded, looks_at_.made_measured);
    // None of the events had what was made of them all: it is the folded ones that have such a value.
    for (const FoldedField made : looks_at_.made)
      if (made == FoldedField::total || made == FoldedField::one)
        weight.events = std::max<std::uint64_t>(
            1, static_cast<std::uint64_t>(std::llround(field_weight(stands_for, folded, made).times)));
    return weight;
  }

  // A group, as its key stands in a block.
  struct Recent {
    std::uint64_t block = 0;  // its serial number
    std::int64_t bucket = 0;
    Kind kind = Kind::absent;
    const char* text = nullptr;
    std::int64_t size = 0;  // of a text; else the value's bits
    Measured* group = nullptr;
    static constexpr std::size_t kSlots = 1024;
    std::size_t slot() const {
      const auto n = reinterpret_cast<std::uintptr_t>(text) ^ static_cast<std::uint64_t>(size) ^
                     static_cast<std::uint64_t>(bucket);
      return (n * 0x9E3779B97F4A7C15u) >> 54;
    }
    bool is(const Recent& now) const {
      return group != nullptr && block == now.block && text == now.text && size == now.size &&
             bucket == now.bucket && kind == now.kind;
    }
  };
  static_assert(Recent::kSlots == std::size_t{1} << (64 - 54));

  void count(Measured& group, double number, const RowWeight& weight) {
    group.add(number, weight.events, weight.measured);
    if (g_.measure == Measure::percentile && group.keep(number, weight.measured.times)) approximate = true;
  }
  // That have `keys_`.
  void add_events(std::int64_t bucket, std::uint64_t events) {
    if (events != 0) place_of(bucket, events).group->add(0, events, {});
  }

  // Where events that have `keys_` are counted: in a group of their own, or among the others of their bucket, which may have so many
  // groups, so that none is without. What comes often is given room beyond that; what it had until then stays with the others.
  struct Place {
    Measured* group;
    bool is_own;
  };
  Place place_of(std::int64_t bucket, std::uint64_t events) {
    if (last_bucket_ == nullptr || last_bucket_->first != bucket)
      last_bucket_ = &*buckets.try_emplace(bucket).first;
    Bucket& its = last_bucket_->second;
    const std::uint64_t hash = hash_of_key(bucket);
    // Events without the fields always have a group. Half of the room is for who comes first; of the other each bucket has its share.
    const bool bounded = std::ranges::any_of(keys_, [](const Value& v) { return !v.absent(); });
    const bool room =
        !bounded ||
        ((all.size() < most_groups_ / 2 || (its.groups < most_in_bucket_ && all.size() < most_groups_)) &&
         all.key_bytes() < kMostKeyBytes);
    const auto find = [&](bool may_add) {
      const std::size_t before = all.size();
      Measured* const group = all.find(
          hash, [&] { return write_key(bucket); }, may_add);
      its.groups += all.size() - before;
      return group;
    };
    if (Measured* const group = find(room)) return {group, true};
    approximate = true;
    if (all.size() < 2 * most_groups_ && all.key_bytes() < kMostKeyBytes && frequent_.add(hash, events))
      return {find(true), true};
    left_out.add(hash);
    return {&its.others, false};
  }

 public:
  void take(Groups&& other) {
    weighted = weighted || other.weighted;
    approximate = approximate || other.approximate;
    for (auto& entry : other.all.entries()) {
      Measured* const own = all.find(
          entry.hash, [&]() -> std::string_view { return entry.key; }, true);
      approximate = own->take(std::move(entry.counted)) || approximate;
    }
    for (auto& [begin, bucket] : other.buckets)
      approximate = buckets[begin].others.take(std::move(bucket.others)) || approximate;
    left_out.merge(other.left_out);
  }

  struct Bucket {
    std::size_t groups = 0;
    Measured others;
  };
  GroupTable<Measured> all;  // key: bucket and values, encoded
  std::unordered_map<std::int64_t, Bucket> buckets;
  DistinctSketch left_out;  // hashes of what is among the others
  bool weighted = false, approximate = false;

 private:
  static constexpr std::size_t kMostKeyBytes = 64u << 20, kLeastInBucket = 8;

  std::int64_t bucket_of(std::int64_t t) {
    if (g_.bucket <= 0) return 0;
    if (!bucket_.holds(t)) bucket_ = bucket_at(t, g_.bucket, g_.zone);  // else that of the event before
    return bucket_.begin;
  }

  std::uint64_t hash_of_key(std::int64_t bucket) const {
    auto hash = static_cast<std::uint64_t>(bucket);
    for (const Value& v : keys_) {
      hash ^= static_cast<std::uint64_t>(v.kind());
      if (v.is_textual()) {
        hash = XXH3_64bits_withSeed(v.as_text().data(), v.as_text().size(), hash);
      } else {
        const std::uint64_t bits = v.kind() == Kind::decimal ? std::bit_cast<std::uint64_t>(v.as_decimal())
                                                             : static_cast<std::uint64_t>(v.as_integer());
        hash = XXH3_64bits_withSeed(&bits, sizeof bits, hash);
      }
    }
    return hash;
  }
  std::string_view write_key(std::int64_t bucket) {
    key_.clear();
    ByteWriter w(key_);
    w.zigzag(bucket);
    for (const Value& v : keys_) {
      w.u8(static_cast<std::uint8_t>(v.kind()));
      if (v.is_textual())
        w.text(v.as_text());
      else if (v.kind() == Kind::decimal)
        w.decimal(v.as_decimal());
      else
        w.zigzag(v.as_integer());
    }
    return key_;
  }

  const Grouping& g_;
  const std::vector<FieldId>& fields_;
  const FieldId measured_;
  std::vector<Value> keys_;  // of the event in hand
  LooksAt looks_at_;
  std::vector<std::pair<Value, std::uint64_t>> counts_;
  std::string key_;
  const std::size_t most_groups_, most_in_bucket_;
  std::pair<const std::int64_t, Bucket>* last_bucket_ = nullptr;
  Frequent frequent_;
  TimeBucket bucket_;  // of the event before
  std::array<Recent, Recent::kSlots> recent_{};
};

}  // namespace

Grouped group_events(const std::vector<const Store*>& stores, const Query& query, const Grouping& g,
                     Scanned& scanned) {
  Grouped result;
  std::vector<FieldId> fields;
  for (const std::string& name : g.fields) fields.push_back(field_id(name));
  // How many buckets the time has that is asked for; few, where it has no ends.
  std::size_t buckets = 1;
  if (g.bucket > 0 && query.from < query.to && query.from != std::numeric_limits<std::int64_t>::min() &&
      !query.has_no_end())
    buckets = static_cast<std::size_t>(
                  (static_cast<std::uint64_t>(query.to) - static_cast<std::uint64_t>(query.from)) /
                  static_cast<std::uint64_t>(g.bucket)) +
              1;
  std::deque<Groups> of_threads;
  std::unordered_set<std::uint64_t> counted;  // an event that went to several destinations counts once
  // What was counted already is known to one thread only.
  scan_in_parallel(stores, query, scanned, stores.size() > 1 ? 1 : kScanThreads, [&]() -> Visitor {
    Groups& groups = of_threads.emplace_back(g, fields, buckets);
    if (stores.size() == 1)
      return {
          .event = [&](Block& block, std::size_t row) { groups.add(block, row); },
          .block = [&](const IndexReader::BlockInfo& info, Block& block) { return groups.add(info, block); }};
    return {.event = [&](Block& block, std::size_t row) {
      const EventOrder order = block.order(row);
      if (counted.size() >= kMostCounted)
        groups.approximate = true;
      else if (!counted.insert(XXH64(&order, sizeof order, 0)).second)
        return;
      groups.add(block, row);
    }};
  });
  if (of_threads.empty()) of_threads.emplace_back(g, fields, buckets);
  for (std::size_t i = 1; i < of_threads.size(); ++i) of_threads[0].take(std::move(of_threads[i]));
  auto& groups = of_threads[0].all.entries();
  result.weighted = of_threads[0].weighted;
  result.approximate = of_threads[0].approximate;
  // Only those that are wanted are decoded and put in order.
  struct Key {
    std::int64_t bucket = 0;
    std::uint64_t count = 0;
    std::string_view values;  // encoded
    Measured* measured = nullptr;
  };
  std::vector<Key> keys;
  keys.reserve(groups.size());
  for (auto& [hash, encoded, a] : groups) {
    ByteReader r(encoded);
    const std::int64_t bucket = r.zigzag();
    keys.push_back({bucket, a.count, r.rest(), &a});
    result.events += a.count;
    if (!fields.empty() && static_cast<Kind>(r.u8()) == Kind::absent) result.without += a.count;
  }
  for (auto& [begin, bucket] : of_threads[0].buckets) {
    result.events += bucket.others.count;
    if (bucket.others.seen != 0)
      result.others.push_back({begin, {}, bucket.others.count, bucket.others.value(g.measure, g.percentile)});
  }
  std::ranges::sort(result.others, {}, &Group::bucket);
  result.found = keys.size() + of_threads[0].left_out.estimate();
  const std::size_t wanted = g.most == 0 ? keys.size() : std::min(g.most, keys.size());
  std::partial_sort(keys.begin(), keys.begin() + static_cast<std::ptrdiff_t>(wanted), keys.end(),
                    [&](const Key& a, const Key& b) {
                      if (a.bucket != b.bucket) return a.bucket < b.bucket;
                      if (a.count != b.count) return a.count > b.count;
                      return before(a.values, b.values, fields.size());
                    });
  keys.resize(wanted);
  std::deque<std::string> texts;
  for (const Key& key_of_group : keys) {
    Measured& a = *key_of_group.measured;
    Group group;
    group.bucket = key_of_group.bucket;
    ByteReader r(key_of_group.values);
    for (std::size_t i = 0; i < fields.size(); ++i) {
      Value v = value_of(r);
      if (v.is_textual()) v = Value::from_text(v.kind(), texts.emplace_back(v.as_text()));
      group.keys.push_back(v);
    }
    group.count = a.count;
    group.value = a.value(g.measure, g.percentile);
    result.groups.push_back(std::move(group));
  }
  result.texts = std::move(texts);
  return result;
}

}  // namespace dingle

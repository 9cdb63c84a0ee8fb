// What many events come to: the set functions of SQL (ISO 9075-2, "aggregate function"), `first` and `last` by the
// event's time, and an estimate of how many values differ.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include "core/bytes.h"
#include "core/event.h"
#include "core/result.h"
#include "core/steps/sketch.h"

namespace dingle {

struct SetFunction {
  enum class Form { count_all, count, sum, min, max, first, last, distinct };
  Form form = Form::count_all;
  FieldId field = kNoField;  // none for count_all
  std::string of;            // its name

  // "count(*)", "count(field)", "sum(field)", "min", "max", "first", "last", "count(distinct field)".
  static Result<SetFunction> parse(std::string_view text);
  std::string_view name() const;  // "sum"; "count" for both counts; "distinct"
  // Why a value cannot be taken in, or "". Absent ones can: they do not count.
  std::string refuses(const Value& value) const;
};

// A value with its text.
class OwnedValue {
 public:
  void set(const Value& value);
  Value value() const;  // a text is a view into this
  bool absent() const { return kind_ == Kind::absent; }
  std::size_t bytes() const { return text_.size(); }
  void write(ByteWriter& out) const;
  bool read(ByteReader& in);

 private:
  Kind kind_ = Kind::absent;
  std::int64_t integer_ = 0;
  double decimal_ = 0;
  std::string text_;
};
inline constexpr std::size_t kLongestRemembered = 4096;  // bytes of a text

// What one function came to so far. Two that saw different events can be put together.
class Accumulator {
 public:
  // `weight`: how many events this one stands for; `times`: how often a sum takes the value.
  void add(const SetFunction& f, const Value& value, std::int64_t time, std::uint64_t weight,
           double times = 1);
  void merge(const SetFunction& f, const Accumulator& later);
  Value value(const SetFunction& f) const;  // absent if there was nothing; a text is a view into this
  bool estimated() const { return !distinct_.exact(); }
  std::size_t bytes() const { return sizeof *this + value_.bytes() + distinct_.bytes(); }
  void write(const SetFunction& f, ByteWriter& out) const;
  bool read(const SetFunction& f, ByteReader& in);

 private:
  void add_to_sum(const Value& value, double times);
  void take(const SetFunction& f, const Value& value, std::int64_t time);
  std::uint64_t count_ = 0;  // of values
  std::int64_t sum_ = 0;     // while it fits
  double decimal_sum_ = 0;
  bool decimal_ = false;
  OwnedValue value_;       // min, max, first, last
  std::int64_t time_ = 0;  // of the event that it is from
  DistinctSketch distinct_;
};

}  // namespace dingle

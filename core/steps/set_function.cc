#include "core/steps/set_function.h"

#include <xxhash.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>

#include "core/nearest.h"
#include "core/template/library.h"
#include "core/value_bytes.h"

namespace dingle {
namespace {

using Form = SetFunction::Form;

constexpr std::array<std::pair<std::string_view, Form>, 6> kForms{{{"count", Form::count},
                                                                   {"sum", Form::sum},
                                                                   {"min", Form::min},
                                                                   {"max", Form::max},
                                                                   {"first", Form::first},
                                                                   {"last", Form::last}}};

std::string_view trimmed(std::string_view t) {
  while (!t.empty() && t.front() == ' ') t.remove_prefix(1);
  while (!t.empty() && t.back() == ' ') t.remove_suffix(1);
  return t;
}

// A total order over all kinds: booleans, numbers, moments, texts.
int rank(const Value& v) {
  switch (v.kind()) {
    case Kind::boolean: return 0;
    case Kind::integer:
    case Kind::decimal: return 1;
    case Kind::timestamp: return 2;
    default: return 3;
  }
}

bool less(const Value& a, const Value& b) {
  if (rank(a) != rank(b)) return rank(a) < rank(b);
  if (a.is_textual()) return a.as_text() < b.as_text();
  if (a.kind() != Kind::decimal && b.kind() != Kind::decimal)
    return a.kind() == Kind::boolean ? a.as_boolean() < b.as_boolean() : a.as_integer() < b.as_integer();
  // Exact for both: its mantissa has 64 bits.
  const auto number = [](const Value& v) {
    return v.kind() == Kind::decimal ? static_cast<long double>(v.as_decimal())
                                     : static_cast<long double>(v.as_integer());
  };
  return number(a) < number(b);
}

}  // namespace

Result<SetFunction> SetFunction::parse(std::string_view text) {
  static const char* const kForm =
      "count(*), count(FIELD), count(distinct FIELD), sum(FIELD), min(FIELD), max(FIELD), first(FIELD), "
      "last(FIELD)";
  const std::size_t open = text.find('(');
  if (open == std::string_view::npos || !trimmed(text).ends_with(')'))
    return Problem{"`" + std::string(text) + "` is no function of a field", kForm, 0, text.size()};
  const std::string name(trimmed(text.substr(0, open)));
  std::string_view field = trimmed(text.substr(open + 1, text.rfind(')') - open - 1));
  const auto known =
      std::find_if(kForms.begin(), kForms.end(), [&](const auto& f) { return f.first == name; });
  if (known == kForms.end()) {
    const std::string near = did_you_mean(name, {"count", "sum", "min", "max", "first", "last"});
    return Problem{"there is no function `" + name + "`", near.empty() ? kForm : near, 0, open};
  }
  SetFunction f;
  f.form = known->second;
  if (f.form == Form::count && field == "*") {
    f.form = Form::count_all;
    return f;
  }
  if (f.form == Form::count && field.starts_with("distinct ")) {
    f.form = Form::distinct;
    field = trimmed(field.substr(9));
  }
  if (!is_field_name(field))
    return Problem{"`" + std::string(field) + "` is not a field's name", kForm, open + 1,
                   text.size() - open - 1};
  f.of = field;
  f.field = field_id(field);
  return f;
}

std::string_view SetFunction::name() const {
  for (const auto& [name, its] : kForms)
    if (its == form) return name;
  return form == Form::count_all ? "count" : "distinct";
}

std::string SetFunction::refuses(const Value& value) const {
  if (value.absent()) return "";
  if (form == Form::sum && !value.is_number())
    return of + " is " + (value.is_textual() ? "a text" : std::string(kind_name(value.kind()))) +
           ", and a sum needs numbers";
  const bool remembered = form == Form::min || form == Form::max || form == Form::first || form == Form::last;
  if (remembered && value.is_textual() && value.as_text().size() > kLongestRemembered)
    return of + " has " + std::to_string(value.as_text().size()) + " bytes, and at most " +
           std::to_string(kLongestRemembered) + " are remembered";
  return "";
}

void OwnedValue::set(const Value& value) {
  kind_ = value.kind();
  text_.clear();
  if (value.is_textual())
    text_ = value.as_text();
  else if (kind_ == Kind::decimal)
    decimal_ = value.as_decimal();
  else
    integer_ = kind_ == Kind::boolean ? value.as_boolean() : value.as_integer();
}

Value OwnedValue::value() const {
  switch (kind_) {
    case Kind::absent: return {};
    case Kind::integer: return Value::integer(integer_);
    case Kind::decimal: return Value::decimal(decimal_);
    case Kind::boolean: return Value::boolean(integer_ != 0);
    case Kind::timestamp: return Value::timestamp(integer_);
    default: return Value::from_text(kind_, text_);
  }
}

void OwnedValue::write(ByteWriter& out) const { write_value(out, value()); }

bool OwnedValue::read(ByteReader& in) {
  set(read_value(in));
  return in.ok();
}

void Accumulator::take(const SetFunction& f, const Value& value, std::int64_t time) {
  const bool first = value_.absent();
  const bool better = first || (f.form == Form::min     ? less(value, value_.value())
                                : f.form == Form::max   ? less(value_.value(), value)
                                : f.form == Form::first ? time < time_
                                                        : time >= time_);
  if (!better) return;
  value_.set(value);
  time_ = time;
}

void Accumulator::add_to_sum(const Value& value, double times) {
  std::int64_t product = 0;
  if (value.kind() == Kind::decimal || times != std::floor(times) || times > 0x1p62 ||
      __builtin_mul_overflow(value.as_integer(), static_cast<std::int64_t>(times), &product)) {
    decimal_ = true;
    decimal_sum_ += value.as_number() * times;
  } else if (__builtin_add_overflow(sum_, product, &sum_)) {
    // What wrapped round is put right: the true sum lies 2^64 further.
    decimal_ = true;
    decimal_sum_ += product > 0 ? 0x1p64 : -0x1p64;
  }
}

void Accumulator::add(const SetFunction& f, const Value& value, std::int64_t time, std::uint64_t weight,
                      double times) {
  if (f.form == Form::count_all) count_ += weight;
  if (value.absent()) return;
  switch (f.form) {
    case Form::count_all: break;
    case Form::count: count_ += weight; break;
    case Form::sum:
      ++count_;
      add_to_sum(value, times);
      break;
    case Form::distinct: {
      std::string bytes;
      ByteWriter out(bytes);
      OwnedValue owned;
      owned.set(value);
      owned.write(out);
      distinct_.add(XXH3_64bits(bytes.data(), bytes.size()));
      break;
    }
    default: take(f, value, time);
  }
}

void Accumulator::merge(const SetFunction& f, const Accumulator& later) {
  count_ += later.count_;
  decimal_ = decimal_ || later.decimal_;
  decimal_sum_ += later.decimal_sum_;
  if (__builtin_add_overflow(sum_, later.sum_, &sum_)) {
    decimal_ = true;
    decimal_sum_ += later.sum_ > 0 ? 0x1p64 : -0x1p64;
  }
  if (!later.value_.absent()) take(f, later.value_.value(), later.time_);
  distinct_.merge(later.distinct_);
}

Value Accumulator::value(const SetFunction& f) const {
  switch (f.form) {
    case Form::count_all:
    case Form::count: return Value::integer(static_cast<std::int64_t>(count_));
    case Form::distinct: return Value::integer(static_cast<std::int64_t>(distinct_.estimate()));
    case Form::sum:
      if (count_ == 0) return {};
      return decimal_ ? Value::decimal(decimal_sum_ + static_cast<double>(sum_)) : Value::integer(sum_);
    default: return value_.value();
  }
}

void Accumulator::write(const SetFunction& f, ByteWriter& out) const {
  switch (f.form) {
    case Form::count_all:
    case Form::count: out.varint(count_); break;
    case Form::sum:
      out.varint(count_);
      out.zigzag(sum_);
      out.u8(decimal_);
      if (decimal_) out.decimal(decimal_sum_);
      break;
    case Form::distinct: distinct_.write(out); break;
    default: value_.write(out); out.zigzag(time_);
  }
}

bool Accumulator::read(const SetFunction& f, ByteReader& in) {
  switch (f.form) {
    case Form::count_all:
    case Form::count: count_ = in.varint(); break;
    case Form::sum:
      count_ = in.varint();
      sum_ = in.zigzag();
      decimal_ = in.u8() != 0;
      if (decimal_) decimal_sum_ = in.decimal();
      break;
    case Form::distinct: return distinct_.read(in);
    default:
      if (!value_.read(in)) return false;
      time_ = in.zigzag();
  }
  return in.ok();
}

}  // namespace dingle

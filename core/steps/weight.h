// For how many events one stands, and how often a value of it counts.
//
// An event stands for `dingle.stands_for` events, and each of its values for as many; only what `fold` made of the
// events is there once, however many they were, and again for each folded event that `sample` left out.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

#include "core/event.h"

namespace dingle {

// What `dingle.stands_for` says, where it is a whole number above 0; else 1.
inline std::int64_t weight_of(const Value& stands_for) {
  return stands_for.kind() == Kind::integer && stands_for.as_integer() > 0 ? stands_for.as_integer() : 1;
}
inline std::int64_t weight_of(const Event& event) {
  const Field* f = event.find(names::stands_for);
  return f != nullptr ? weight_of(f->value) : 1;
}

// How a number counts: a sum is of `times` times it; an average divides by `events`; among values in order it stands
// `times` times.
struct FieldWeight {
  double times = 1, events = 1;
};

// Where a field of a folded event is from, as `dingle.values` says it ("berth=by bytes=sum slowest=max").
enum class FoldedField {
  by,     // each of the events had it
  total,  // a sum or a count over them
  one,    // of the window: min, max, first, last, count(distinct)
  behind  // set behind `fold`: where it is a number, it counts as a total
};
FoldedField folded_field(std::string_view values, std::string_view field);

// Of an event with these values of `dingle.stands_for`, and of `dingle.folded`: for how many it stood when it was made.
FieldWeight field_weight(const Value& stands_for, const Value& folded, FoldedField made);
// The field's in this event.
FieldWeight field_weight(const Event& event, std::string_view field);

}  // namespace dingle

#include "core/steps/weight.h"

#include <algorithm>

namespace dingle {

FoldedField folded_field(std::string_view values, std::string_view field) {
  for (std::size_t at = 0; at < values.size();) {
    const std::size_t end = std::min(values.find(' ', at), values.size());
    const std::string_view item = values.substr(at, end - at);
    at = end + 1;
    const std::size_t equals = item.rfind('=');
    if (equals == std::string_view::npos || item.substr(0, equals) != field) continue;
    const std::string_view how = item.substr(equals + 1);
    return how == "by"                      ? FoldedField::by
           : how == "sum" || how == "count" ? FoldedField::total
                                            : FoldedField::one;
  }
  return FoldedField::behind;
}

FieldWeight field_weight(const Value& stands_for, const Value& folded, FoldedField made) {
  const auto events = static_cast<double>(weight_of(stands_for));
  if (folded.absent() || made == FoldedField::by) return {events, events};
  const double left_out = events / static_cast<double>(weight_of(folded));
  return {left_out, made == FoldedField::one ? left_out : events};
}

FieldWeight field_weight(const Event& event, std::string_view field) {
  const auto get = [&](FieldId id) {
    const Field* f = event.find(id);
    return f != nullptr ? f->value : Value();
  };
  const Value folded = get(names::folded), values = get(names::values);
  return field_weight(
      get(names::stands_for), folded,
      folded.absent() ? FoldedField::by : folded_field(values.is_textual() ? values.as_text() : "", field));
}

}  // namespace dingle

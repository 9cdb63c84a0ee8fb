// Which fields of its events a destination keeps, and under which names: the option `events` of those that
// keep values rather than texts (`index`, `postgres`). What a destination writes as text is up to
// rendering.h.
#pragma once

#include <map>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "agent/destinations/destination.h"
#include "core/options/options.h"

namespace dingle {

// `fields`, `omit` and `rename`, in the words of the destination.
std::vector<OptionSpec> field_choice_options(const char* what_fields_takes);
// Reports `fields` and `omit` together.
void check_field_choice(const Options& section, Findings& findings);

// The option `events` itself, for destinations of values; and what is wrong with it.
OptionSpec value_choice_option();
void check_value_choice(const Options& section, Findings& findings);

// Used by one thread.
class FieldChoice {
 public:
  explicit FieldChoice(const Options& section);
  // The events with the fields that were chosen; `events` itself if there was nothing to choose. Of fields
  // that get the name of another, the renamed one stays. Valid until the next call, as long as `events` is.
  std::span<const DeliveryEvent> of(std::span<const DeliveryEvent> events);
  void forget();  // frees the memory that is kept; ends what `of` answered

 private:
  bool keeps(FieldId field) const { return fields_.empty() ? !omitted_.count(field) : fields_.count(field); }
  std::span<const Field> chosen(std::span<const Field> all);
  std::set<FieldId> fields_, omitted_;
  std::map<FieldId, FieldId> renamed_;
  std::vector<DeliveryEvent> events_;
  std::vector<Field> room_;  // of all of them
};

}  // namespace dingle

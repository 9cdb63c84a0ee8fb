// How many events one stands for.
#pragma once

#include <cstdint>

#include "core/event.h"

namespace dingle {

// What `dingle.stands_for` says, where it is a whole number above 0; else 1.
inline std::int64_t weight_of(const Event& event) {
  const Field* f = event.find(names::stands_for);
  return f != nullptr && f->value.kind() == Kind::integer && f->value.as_integer() > 0 ? f->value.as_integer()
                                                                                       : 1;
}

}  // namespace dingle

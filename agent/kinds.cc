#include "agent/kinds.h"

#include <algorithm>

namespace dingle {
namespace {

template <class Kind>
std::vector<const Kind*>& registered() {
  static std::vector<const Kind*> all;
  return all;
}

template <class Kind>
void add(const Kind& kind) {
  auto& all = registered<Kind>();
  all.insert(std::upper_bound(all.begin(), all.end(), &kind,
                              [](const Kind* a, const Kind* b) { return a->spec.name < b->spec.name; }),
             &kind);
}

template <class Kind>
const Kind* named(std::string_view name) {
  for (const Kind* kind : registered<Kind>())
    if (kind->spec.name == name) return kind;
  return nullptr;
}

}  // namespace

const std::vector<const SourceKind*>& source_kinds() { return registered<SourceKind>(); }
const std::vector<const DestinationKind*>& destination_kinds() { return registered<DestinationKind>(); }
const SourceKind* source_kind(std::string_view name) { return named<SourceKind>(name); }
const DestinationKind* destination_kind(std::string_view name) { return named<DestinationKind>(name); }
SourceRegistration::SourceRegistration(const SourceKind& kind) { add(kind); }
DestinationRegistration::DestinationRegistration(const DestinationKind& kind) { add(kind); }

}  // namespace dingle

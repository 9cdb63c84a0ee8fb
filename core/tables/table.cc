#include "core/tables/table.h"

#include "core/nearest.h"

namespace dingle {
namespace {

thread_local const Tables* in_scope = nullptr;

}  // namespace

TableScope::TableScope(const Tables& tables) : before_(in_scope) { in_scope = &tables; }
TableScope::~TableScope() { in_scope = before_; }

Result<std::shared_ptr<TableHandle>> TableScope::find(std::string_view name) {
  std::vector<std::string> names;
  if (in_scope != nullptr)
    for (const auto& [known, handle] : *in_scope) {
      if (known == name) return handle;
      names.push_back(known);
    }
  const std::string near = did_you_mean(name, names);
  return Problem{"there is no table `" + std::string(name) + "`",
                 !near.empty()   ? near
                 : names.empty() ? "tables stand in the configuration: tables: { " + std::string(name) +
                                       ": { file: PATH } }"
                                 : one_of(names)};
}

}  // namespace dingle

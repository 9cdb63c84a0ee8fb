// A condition (up to the first newline), evaluated on an event whose fields hold the rest in several types.
#include "core/condition/condition.h"

#include <cstdlib>

#include "core/condition/expression.h"

namespace {

class Fields final : public dingle::FieldReader {
 public:
  explicit Fields(std::string_view text) : text_(text) {}
  dingle::Value get(dingle::FieldId field) const override {
    using dingle::Value;
    switch (dingle::field_name(field).size() % 7) {
      case 0: return Value::text(text_);
      case 1: return Value::integer(static_cast<std::int64_t>(text_.size()) - 5);
      case 2: return Value::decimal(static_cast<double>(text_.size()) / 3);
      case 3: return Value::boolean(text_.size() % 2);
      case 4: return Value::timestamp(static_cast<std::int64_t>(text_.size()) * 1'000'000'000);
      case 5: return Value::ip(text_);
      default: return {};
    }
  }
  bool any_text(const std::function<bool(std::string_view)>& test) const override { return test(text_); }

 private:
  std::string_view text_;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace dingle;
  std::string_view input(reinterpret_cast<const char*>(data), size);
  const std::size_t end = std::min(input.find('\n'), input.size());
  const Fields fields(input.substr(std::min(end + 1, size)));
  if (auto e = Expression::parse(input.substr(0, end))) {
    Arena arena;
    std::string_view fault;
    const Value value = e->evaluate(fields, arena, fault);
    if (!value.absent() && !fault.empty()) std::abort();
    if (value.to_string().size() > (std::size_t{64} << 20)) std::abort();
  } else if (e.problem().offset > end || e.problem().message.empty()) {
    std::abort();
  }
  auto c = Condition::parse(input.substr(0, end));
  if (!c) {
    if (c.problem().offset > end || c.problem().message.empty()) std::abort();
    return 0;
  }
  const Truth truth = c->evaluate(fields);
  // What a store may conclude from the condition must hold whenever it holds.
  if (truth == Truth::yes)
    for (const Condition::Bound& b : c->bounds()) {
      auto order = compare(fields.get(b.field), b.literal);
      if (!order) std::abort();
    }
  return 0;
}

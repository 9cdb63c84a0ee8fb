// Fields that stand in the header of every line of a source: conditions that are asked before any step may name them.
#pragma once

#include <array>
#include <memory>
#include <string_view>
#include <vector>

#include "core/steps/step.h"
#include "core/template/lexemes.h"

namespace dingle {

class LineHeader {
 public:
  static const LineHeader* of(
      std::string_view pattern);  // a built-in one that brings fields; lives as long as the program
  const std::vector<FieldColumn>& columns() const { return scan_->columns(); }

  static constexpr std::size_t kMost = 16;  // columns
  // Reads an event's fields, and where it has none of that name those of its line's header. Costs a look at the header when
  // the first of them is asked for.
  class Reader final : public FieldReader {
   public:
    Reader(const LineHeader* header, const Batch& batch, const Event& event)
        : header_(header), batch_(batch), event_(event), own_(batch, event) {}
    Value get(FieldId field) const override;
    bool any_text(const std::function<bool(std::string_view)>& test) const override {
      return own_.any_text(test);
    }

   private:
    const LineHeader* header_;
    const Batch& batch_;
    const Event& event_;
    EventReader own_;
    mutable bool read_ = false;
    mutable std::array<Value, kMost> values_;
  };

 private:
  explicit LineHeader(std::string_view pattern);
  std::shared_ptr<const FieldScan> scan_;
  std::vector<FieldId> fields_;
};

}  // namespace dingle

// Steps that hide: what they take out of an event must not stand anywhere in it.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "core/steps/sealing.h"
#include "core/steps/step.h"
#include "core/template/regex.h"

namespace dingle {

// What becomes of an event that a step before could not take apart: what is to be hidden may stand anywhere in it.
enum class Unparsed {
  hold,  // its text is sealed, and its shape stands in its place
  mask,  // its shape stands in the text's place
  pass,
};

// A text that is hidden, and what stands in its place.
struct HiddenText {
  std::string_view text;
  std::string instead;
  std::optional<double> number = {};  // it is looked for as that, however it is written
  std::size_t rarest = 0;             // of its bytes
  bool everywhere = true;             // not only where it lies in the same memory
};

// Puts what stands in their places into a text: where it lies in the same memory as a hidden one, and where one of its readings
// (readings.h) holds one of at least four bytes as a whole word, or the same number. `made` is replaced, unless there was nothing.
// Time grows with the length of the text's readings for each hidden one.
enum class Hide {
  nothing,
  done,
  incomplete,  // the text has more readings than are looked through: what is to be hidden may stand there still
};
Hide hide(std::string_view text, const std::vector<HiddenText>& hidden, std::string& made);
// The same of a list or map: in each of its strings, names and numbers. What was changed is a string then, so it is sound JSON as
// before.
Hide hide_json(std::string_view json, const std::vector<HiddenText>& hidden, std::string& made);
HiddenText hidden_text(std::string_view text, std::string instead);

class HidingStep : public Step {
 public:
  std::vector<FieldId> fields;  // that are hidden whole
  struct Finder {
    Regex regex;
    std::size_t group = 0;                           // that is hidden; 0: all that it matches
    bool (*sound)(std::string_view text) = nullptr;  // what it matches must be
    bool address = false;
  };
  std::vector<Finder> finders;  // of what is hidden within texts,
  std::vector<FieldId> within;  // of these fields; empty: of all, and the body

  const HidingStep* hides() const final { return this; }
  void treat_unparsed(Unparsed how, std::shared_ptr<const Sealing> holder) final {
    unparsed_ = how;
    holder_ = std::move(holder);
  }
  std::shared_ptr<const Sealing> keyed() const override { return holder_; }
  void follow(StepFields& fields) const override;
  void run(Batch& batch, StepTally& tally) const final;
  // Of an event that did not come as far as this step: nothing that was read of it remains.
  void conceal(Batch& batch, Event& event) const;

 protected:
  virtual std::string instead(std::string_view text, const Finder* finder) const = 0;

 private:
  Unparsed unparsed_ = Unparsed::mask;
  std::shared_ptr<const Sealing> holder_;  // for `hold`
  void hide_in(Batch& batch, Event& event, std::vector<HiddenText>& hidden, std::string& made,
               StepTally& tally) const;
  bool find_in(Batch& batch, std::string_view text, std::vector<HiddenText>& hidden, StepTally& tally) const;
  void add_items(Batch& batch, std::string_view json, std::vector<HiddenText>& hidden,
                 StepTally& tally) const;
  void add_members(Batch& batch, std::string_view body, FieldId field, std::vector<HiddenText>& hidden,
                   StepTally& tally) const;
  void give_up(Batch& batch, Event& event, StepTally& tally) const;
};

// What steps that hide have in common: `fields`, `find`, `regex`, `within`, `key`.
std::vector<OptionSpec> hiding_options(std::vector<OptionSpec> more);
bool read_hiding(const StepMaking& m, HidingStep& step);

}  // namespace dingle

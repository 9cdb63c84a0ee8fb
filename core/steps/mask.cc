// mask: hides what others must not see.
#include "core/steps/hiding.h"

namespace dingle {
namespace {

const ComponentSpec kMaskSpec{
    "mask",
    "Hides values, before they reach spool, store, letters, samples or anybody's eyes: in the fields "
    "themselves, in the bytes of "
    "the body that they came from, and wherever else in the event they stand as a whole word of at least "
    "four bytes, however JSON, CSV and XML write it, one within another up to five deep; not as percent or "
    "base64 codes. What a step "
    "before could not take apart is treated as the pipeline's `unparsed` says. Costs a search for each value "
    "in each text; "
    "`find` and `regex` a pass of the regex engine.",
    "mask: { fields: [user], find: [card, email], keep_last: 4 }",
    hiding_options(
        {{.name = "with", .type = OptionType::text, .fallback = "***", .text = "What stands in its place."},
         {.name = "keep_last",
          .type = OptionType::integer,
          .fallback = "0",
          .text = "So many characters at the end stay, of what is at least twice as long.",
          .most = 100},
         {.name = "keep_parts",
          .type = OptionType::integer,
          .fallback = "0",
          .text = "Of an address that `find` finds so many parts at its beginning stay: octets, or groups of "
                  "IPv6.",
          .most = 7}})};

class Mask final : public HidingStep {
 public:
  std::string with;
  std::size_t keep_last = 0, keep_parts = 0;

 protected:
  std::string instead(std::string_view text, const Finder* finder) const override {
    if (finder != nullptr && finder->address && keep_parts != 0) {
      const char sign = text.find(':') == std::string_view::npos ? '.' : ':';
      std::size_t at = 0;
      for (std::size_t n = 0; n < keep_parts && at != std::string_view::npos; ++n)
        at = text.find(sign, at + (n != 0));
      if (at != std::string_view::npos) return std::string(text.substr(0, at + 1)) + with;
    }
    std::size_t characters = 0, kept = text.size();
    for (std::size_t i = text.size(); i-- > 0;) {
      if ((static_cast<unsigned char>(text[i]) & 0xC0) == 0x80) continue;
      if (++characters == keep_last) kept = i;
    }
    return characters >= 2 * keep_last ? with + std::string(text.substr(kept)) : with;
  }
};

std::unique_ptr<Step> make_mask(const StepMaking& m) {
  auto step = std::make_unique<Mask>();
  if (!read_hiding(m, *step)) return nullptr;
  step->with = m.options.text("with");
  step->keep_last = static_cast<std::size_t>(m.options.number("keep_last"));
  step->keep_parts = static_cast<std::size_t>(m.options.number("keep_parts"));
  return step;
}

const StepRegistration mask_step({kMaskSpec, make_mask});

}  // namespace
}  // namespace dingle
